-- +goose Up
CREATE TABLE notices (
  group_id UUID NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  day INT NOT NULL,
  PRIMARY KEY (group_id, expires_at, day)
);
