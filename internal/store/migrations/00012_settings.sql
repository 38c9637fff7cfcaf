-- +goose Up
CREATE TABLE settings (
  name VARCHAR(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL PRIMARY KEY,
  value JSON NOT NULL,
  version INT NOT NULL
);
