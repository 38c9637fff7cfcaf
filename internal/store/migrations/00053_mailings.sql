-- +goose Up
CREATE TABLE mailings (
  id UUID NOT NULL PRIMARY KEY,
  message_id UUID NOT NULL,
  group_id UUID NULL,
  kind VARCHAR(16) NOT NULL,
  state VARCHAR(16) NOT NULL,
  mailbox TINYINT NOT NULL,
  sender VARCHAR(320) NOT NULL,
  fields BLOB NOT NULL,
  decision JSON NOT NULL,
  received_at DATETIME(6) NOT NULL,
  decided_by VARCHAR(320) NOT NULL,
  reason VARCHAR(500) NOT NULL,
  trouble BOOLEAN NOT NULL DEFAULT FALSE,
  reported BOOLEAN NOT NULL DEFAULT FALSE,
  KEY mailings_message (message_id),
  KEY mailings_group (group_id, kind, state, received_at),
  KEY mailings_state (kind, state, received_at),
  KEY mailings_trouble (trouble, received_at)
);
