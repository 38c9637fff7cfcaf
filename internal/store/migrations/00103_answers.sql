-- +goose Up
CREATE TABLE answers (
  group_id UUID NOT NULL,
  addr_key VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  at DATETIME(6) NOT NULL,
  PRIMARY KEY (group_id, addr_key),
  KEY answers_at (at)
);
