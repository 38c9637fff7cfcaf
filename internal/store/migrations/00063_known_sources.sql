-- +goose Up
CREATE TABLE known_sources (
  person_id UUID NOT NULL,
  source VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  last_at DATETIME(6) NOT NULL,
  PRIMARY KEY (person_id, source),
  KEY known_sources_old (last_at)
);
