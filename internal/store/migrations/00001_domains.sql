-- +goose Up
CREATE TABLE domains (
  name VARCHAR(255) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL PRIMARY KEY,
  place INT NOT NULL
);
