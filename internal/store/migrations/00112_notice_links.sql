-- +goose Up
CREATE TABLE notice_links (
  hash BINARY(32) NOT NULL PRIMARY KEY,
  mailing_id UUID NOT NULL,
  recipient VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  KEY notice_links_expires (expires_at)
);
