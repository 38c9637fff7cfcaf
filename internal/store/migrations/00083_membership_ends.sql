-- +goose Up
ALTER TABLE memberships
  ADD COLUMN ends_at DATETIME(6) NULL,
  ADD COLUMN end_told BOOLEAN NOT NULL DEFAULT FALSE,
  ADD KEY memberships_ends (ends_at, group_id, member_id);
