-- +goose Up
ALTER TABLE people
  ADD COLUMN name_key VARCHAR(600) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL DEFAULT '',
  ADD COLUMN signed_in_at DATETIME(6) NULL,
  ADD KEY people_name_key (name_key),
  ADD KEY people_created (created_at, id),
  ADD KEY people_signed_in (signed_in_at, id);
