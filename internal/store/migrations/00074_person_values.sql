-- +goose Up
CREATE TABLE person_values (
  person_id UUID NOT NULL,
  attribute VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  place SMALLINT UNSIGNED NOT NULL,
  value VARCHAR(2000) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  PRIMARY KEY (person_id, attribute, place),
  KEY person_values_value (attribute, value(120), person_id)
);
