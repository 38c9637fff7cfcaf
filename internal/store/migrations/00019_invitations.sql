-- +goose Up
CREATE TABLE invitations (
  id UUID NOT NULL PRIMARY KEY,
  hash BINARY(32) NOT NULL,
  group_id UUID NOT NULL,
  address VARCHAR(320) NOT NULL,
  addr_key VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  role TINYINT NOT NULL,
  state VARCHAR(12) NOT NULL,
  open_once VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin AS (IF(state = 'open', addr_key, NULL)) PERSISTENT,
  made_by VARCHAR(320) NOT NULL,
  made_at DATETIME(6) NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  answered_at DATETIME(6) NULL,
  UNIQUE KEY invitations_hash (hash),
  UNIQUE KEY invitations_once (group_id, open_once),
  KEY invitations_group (group_id, state, made_at, id)
);
