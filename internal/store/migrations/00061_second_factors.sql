-- +goose Up
CREATE TABLE second_factors (
  person_id UUID NOT NULL PRIMARY KEY,
  secret VARBINARY(64) NOT NULL,
  confirmed_at DATETIME(6) NULL,
  last_step BIGINT NOT NULL
);
