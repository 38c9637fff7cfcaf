-- +goose Up
CREATE TABLE history_people (
  history_id BIGINT NOT NULL,
  person_id UUID NOT NULL,
  was VARCHAR(16) NOT NULL,
  now VARCHAR(16) NOT NULL,
  PRIMARY KEY (history_id, person_id),
  KEY history_people_person (person_id, history_id)
);
