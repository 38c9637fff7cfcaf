-- +goose Up
CREATE TABLE recovery_codes (
  person_id UUID NOT NULL,
  hash BINARY(32) NOT NULL,
  PRIMARY KEY (person_id, hash)
);
