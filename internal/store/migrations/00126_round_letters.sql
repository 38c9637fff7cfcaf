-- +goose Up
CREATE TABLE round_letters (
  round_id UUID NOT NULL,
  recipient VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  stage SMALLINT NOT NULL,
  hash BINARY(32) NOT NULL,
  at DATETIME(6) NOT NULL,
  PRIMARY KEY (round_id, recipient, stage),
  UNIQUE KEY round_letters_hash (hash)
);
