-- +goose Up
CREATE TABLE purged_groups (
  id UUID NOT NULL PRIMARY KEY,
  name VARCHAR(200) NOT NULL,
  address VARCHAR(320) NOT NULL,
  aliases TEXT NOT NULL,
  description TEXT NOT NULL,
  owners TEXT NOT NULL,
  people INT NOT NULL,
  created_at DATETIME(6) NOT NULL,
  ended_at DATETIME(6) NOT NULL,
  retired BOOLEAN NOT NULL,
  purged_at DATETIME(6) NOT NULL,
  free_at DATETIME(6) NOT NULL,
  freed BOOLEAN NOT NULL DEFAULT FALSE,
  KEY purged_groups_purged (purged_at, id),
  KEY purged_groups_free (freed, free_at)
);
