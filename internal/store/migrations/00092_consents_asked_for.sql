-- +goose Up
INSERT INTO consents (id, group_id, outer_id, asked_by, asked_at, told)
  SELECT UUID(), member_id, group_id, added_by, added_at, 0 FROM memberships WHERE kind = 2;
