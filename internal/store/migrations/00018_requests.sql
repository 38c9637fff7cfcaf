-- +goose Up
CREATE TABLE requests (
  id UUID NOT NULL PRIMARY KEY,
  group_id UUID NOT NULL,
  person_id UUID NOT NULL,
  kind VARCHAR(8) NOT NULL,
  note VARCHAR(500) NOT NULL,
  state VARCHAR(12) NOT NULL,
  open_once UUID AS (IF(state = 'open', person_id, NULL)) PERSISTENT,
  made_at DATETIME(6) NOT NULL,
  decided_by VARCHAR(320) NOT NULL,
  decided_at DATETIME(6) NULL,
  reason VARCHAR(500) NOT NULL,
  UNIQUE KEY requests_once (group_id, open_once),
  KEY requests_open (state, made_at, id),
  KEY requests_person (person_id, state, made_at)
);
