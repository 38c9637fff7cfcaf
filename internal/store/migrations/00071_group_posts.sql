-- +goose Up
CREATE TABLE group_posts (
  group_id UUID NOT NULL PRIMARY KEY,
  last_at DATETIME(6) NOT NULL,
  KEY group_posts_last (last_at, group_id)
);
