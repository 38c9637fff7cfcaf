-- +goose Up
CREATE TABLE words (
  kind TINYINT NOT NULL,
  word VARCHAR(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  ref UUID NOT NULL,
  PRIMARY KEY (kind, word, ref),
  KEY words_ref (ref)
);
