-- +goose Up
CREATE TABLE join_links (
  id UUID NOT NULL PRIMARY KEY,
  hash BINARY(32) NOT NULL,
  group_id UUID NOT NULL,
  note VARCHAR(200) NOT NULL,
  uses INT NOT NULL,
  most INT NOT NULL,
  made_by VARCHAR(320) NOT NULL,
  made_at DATETIME(6) NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  ended_at DATETIME(6) NULL,
  UNIQUE KEY join_links_hash (hash),
  KEY join_links_group (group_id, made_at)
);
