-- +goose Up
CREATE TABLE handovers (
  person_id UUID NOT NULL,
  group_id UUID NOT NULL,
  kind TINYINT NOT NULL,
  subject_id UUID NOT NULL,
  to_id UUID NOT NULL,
  was TINYINT NOT NULL,
  change_id UUID NOT NULL,
  at DATETIME(6) NOT NULL,
  PRIMARY KEY (person_id, group_id, kind, subject_id),
  KEY handovers_group (group_id)
);
