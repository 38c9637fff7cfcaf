-- +goose Up
CREATE TABLE message_bodies (
  message_id UUID NOT NULL,
  part INT NOT NULL,
  octets MEDIUMBLOB NOT NULL,
  PRIMARY KEY (message_id, part)
);
