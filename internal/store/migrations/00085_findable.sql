-- +goose Up
ALTER TABLE mail_groups
  ADD COLUMN findable BOOLEAN NOT NULL DEFAULT 0,
  ADD KEY groups_findable (findable, id);
