-- +goose Up
CREATE TABLE returns (
  mailing_id UUID NOT NULL,
  recipient VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  group_id UUID NULL,
  at DATETIME(6) NOT NULL,
  permanent BOOLEAN NOT NULL,
  status VARCHAR(16) NOT NULL,
  reply VARCHAR(500) NOT NULL,
  PRIMARY KEY (mailing_id, recipient),
  KEY returns_recipient (recipient, at),
  KEY returns_group (group_id, at)
);
