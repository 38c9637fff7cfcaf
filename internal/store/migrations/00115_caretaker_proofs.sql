-- +goose Up
CREATE TABLE caretaker_proofs (
  addr_key VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL PRIMARY KEY,
  hash BINARY(32) NOT NULL,
  asked_at DATETIME(6) NOT NULL,
  confirmed_at DATETIME(6) NULL,
  UNIQUE KEY caretaker_proofs_hash (hash)
);
