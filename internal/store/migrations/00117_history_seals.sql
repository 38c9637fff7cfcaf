-- +goose Up
CREATE TABLE history_seals (
  place BIGINT NOT NULL PRIMARY KEY,
  entry BIGINT NOT NULL,
  salt BINARY(16) NOT NULL,
  seal BINARY(32) NOT NULL,
  UNIQUE KEY history_seals_entry (entry)
);
