-- +goose Up
CREATE TABLE messages (
  id UUID NOT NULL PRIMARY KEY,
  message_id VARCHAR(998) NOT NULL,
  author VARCHAR(320) NOT NULL,
  author_id UUID NULL,
  proven BOOLEAN NOT NULL,
  return_path VARCHAR(320) NOT NULL,
  subject VARCHAR(998) NOT NULL,
  header MEDIUMBLOB NOT NULL,
  size INT NOT NULL,
  eight_bit BOOLEAN NOT NULL,
  received_at DATETIME(6) NOT NULL,
  KEY messages_age (received_at)
);
