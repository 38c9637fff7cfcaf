-- +goose Up
CREATE TABLE directory_days (
  day DATE NOT NULL PRIMARY KEY,
  mail_groups INT NOT NULL,
  ended INT NOT NULL,
  people INT NOT NULL,
  memberships INT NOT NULL,
  external INT NOT NULL
);
