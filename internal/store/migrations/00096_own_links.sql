-- +goose Up
CREATE TABLE own_links (
  hash BINARY(32) NOT NULL PRIMARY KEY,
  group_id UUID NOT NULL,
  member_id UUID NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  KEY own_links_member (group_id, member_id),
  KEY own_links_expires (expires_at)
);
