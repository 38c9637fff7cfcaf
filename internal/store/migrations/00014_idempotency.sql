-- +goose Up
CREATE TABLE idempotency (
  person_id UUID NOT NULL,
  idem_key VARCHAR(100) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  request BINARY(32) NOT NULL,
  group_id UUID NOT NULL,
  created_at DATETIME(6) NOT NULL,
  PRIMARY KEY (person_id, idem_key)
);
