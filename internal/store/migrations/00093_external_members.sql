-- +goose Up
CREATE TABLE external_members (
  group_id UUID NOT NULL,
  member_id UUID NOT NULL,
  voucher_id UUID NULL,
  reason VARCHAR(500) NOT NULL DEFAULT '',
  PRIMARY KEY (group_id, member_id),
  KEY external_members_member (member_id, group_id),
  KEY external_members_voucher (voucher_id, group_id)
);
