-- +goose Up
CREATE TABLE messages (
  id UUID NOT NULL PRIMARY KEY,
  group_id UUID NULL,
  kind VARCHAR(16) NOT NULL,
  state VARCHAR(16) NOT NULL,
  part TINYINT NOT NULL,
  message_id VARCHAR(998) NOT NULL,
  sender VARCHAR(320) NOT NULL,
  author VARCHAR(320) NOT NULL,
  author_id UUID NULL,
  proven BOOLEAN NOT NULL,
  subject VARCHAR(998) NOT NULL,
  size INT NOT NULL,
  raw LONGBLOB NOT NULL,
  decision JSON NOT NULL,
  received_at DATETIME(6) NOT NULL,
  decided_by VARCHAR(320) NOT NULL,
  reason VARCHAR(500) NOT NULL,
  KEY messages_group (group_id, kind, state, id),
  KEY messages_state (kind, state, id)
);
