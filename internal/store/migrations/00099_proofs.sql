-- +goose Up
CREATE TABLE proofs (
  hash BINARY(32) NOT NULL PRIMARY KEY,
  group_id UUID NOT NULL,
  address VARCHAR(320) NOT NULL,
  addr_key VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  name VARCHAR(200) NOT NULL DEFAULT '',
  note VARCHAR(1000) NOT NULL DEFAULT '',
  expires_at DATETIME(6) NOT NULL,
  UNIQUE KEY proofs_once (group_id, addr_key),
  KEY proofs_expires (expires_at)
);
