-- +goose Up
CREATE TABLE saved_views (
  id UUID NOT NULL PRIMARY KEY,
  owner_id UUID NOT NULL,
  list VARCHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  name VARCHAR(100) NOT NULL,
  name_key VARCHAR(300) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  filter TEXT NOT NULL,
  columns JSON NOT NULL,
  sort VARCHAR(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  made_by VARCHAR(320) NOT NULL,
  made_at DATETIME(6) NOT NULL,
  version INT NOT NULL,
  UNIQUE KEY saved_views_name (owner_id, list, name_key)
);
