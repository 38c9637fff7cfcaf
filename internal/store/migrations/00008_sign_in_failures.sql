-- +goose Up
CREATE TABLE sign_in_failures (
  addr_key VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL PRIMARY KEY,
  failures INT NOT NULL,
  last_at DATETIME(6) NOT NULL
);
