-- +goose Up
CREATE TABLE starting_points (
  name VARCHAR(60) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL PRIMARY KEY,
  title VARCHAR(100) NOT NULL,
  about VARCHAR(500) NOT NULL,
  body JSON NOT NULL,
  made_by VARCHAR(320) NOT NULL,
  made_at DATETIME(6) NOT NULL
);
