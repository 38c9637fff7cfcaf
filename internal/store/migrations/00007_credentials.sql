-- +goose Up
CREATE TABLE credentials (
  id UUID NOT NULL PRIMARY KEY,
  kind VARCHAR(16) NOT NULL,
  hash BINARY(32) NOT NULL,
  person_id UUID NOT NULL,
  name VARCHAR(100) NOT NULL,
  created_at DATETIME(6) NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  UNIQUE KEY credentials_hash (hash),
  KEY credentials_person (person_id, kind, id)
);
