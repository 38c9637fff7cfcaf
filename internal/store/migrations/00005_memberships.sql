-- +goose Up
CREATE TABLE memberships (
  group_id UUID NOT NULL,
  member_id UUID NOT NULL,
  kind TINYINT NOT NULL,
  role TINYINT NOT NULL,
  mail BOOLEAN NOT NULL,
  added_at DATETIME(6) NOT NULL,
  added_by VARCHAR(320) NOT NULL,
  PRIMARY KEY (group_id, member_id),
  KEY memberships_member (member_id, group_id, role),
  KEY memberships_kind (kind, group_id, member_id),
  KEY memberships_role (group_id, role DESC, added_at, member_id)
);
