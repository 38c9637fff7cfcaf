-- +goose Up
CREATE TABLE review_due (
  group_id UUID NOT NULL PRIMARY KEY,
  at DATETIME(6) NOT NULL,
  KEY review_due_at (at)
);
