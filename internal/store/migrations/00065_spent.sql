-- +goose Up
CREATE TABLE spent (
  person_id UUID NOT NULL,
  day DATE NOT NULL,
  kind VARCHAR(16) NOT NULL,
  n INT NOT NULL,
  PRIMARY KEY (person_id, day, kind),
  KEY spent_old (day)
);
