-- +goose Up
ALTER TABLE memberships
  DROP KEY memberships_member,
  ADD KEY memberships_member (member_id, group_id, role, by_rule);
