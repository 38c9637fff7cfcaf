-- +goose Up
CREATE TABLE group_rules (
  group_id UUID NOT NULL PRIMARY KEY,
  expression VARCHAR(4000) NOT NULL,
  guard INT NOT NULL,
  held JSON NULL,
  set_by VARCHAR(320) NOT NULL,
  set_at DATETIME(6) NOT NULL
);
