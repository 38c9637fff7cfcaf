-- +goose Up
CREATE TABLE digests (
  person_id UUID NOT NULL PRIMARY KEY,
  hour TINYINT NOT NULL,
  zone VARCHAR(64) NOT NULL,
  until_at DATETIME(6) NOT NULL,
  due_at DATETIME(6) NOT NULL,
  KEY digests_due (due_at)
);
