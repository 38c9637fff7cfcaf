-- +goose Up
CREATE TABLE sign_in_attempts (
  addr_key VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  source VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  failures INT NOT NULL,
  last_at DATETIME(6) NOT NULL,
  PRIMARY KEY (addr_key, source),
  KEY sign_in_attempts_old (last_at)
);
DROP TABLE sign_in_failures;
