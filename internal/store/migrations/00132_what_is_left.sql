-- +goose Up
-- What was left of each entry when names were taken out of it; the digest of those of one change stands in its entry of the history.
CREATE TABLE history_left (
  change_id UUID NOT NULL,
  entry BIGINT NOT NULL,
  hash BINARY(32) NOT NULL,
  PRIMARY KEY (change_id, entry)
);
