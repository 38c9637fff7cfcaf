-- +goose Up
CREATE TABLE calendar_feeds (
  hash BINARY(32) NOT NULL PRIMARY KEY,
  person_id UUID NOT NULL,
  made_at DATETIME(6) NOT NULL,
  UNIQUE KEY calendar_feeds_person (person_id)
);
