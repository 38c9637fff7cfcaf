-- +goose Up
CREATE TABLE group_tellings (
  group_id UUID NOT NULL PRIMARY KEY,
  told_at DATETIME(6) NOT NULL
);
