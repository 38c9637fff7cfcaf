-- +goose Up
ALTER TABLE mail_groups
  ADD COLUMN name_key VARCHAR(600) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL DEFAULT '',
  ADD COLUMN description_key TEXT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL DEFAULT '',
  ADD COLUMN domain VARCHAR(255) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin AS (SUBSTRING_INDEX(addr_key, '@', -1)) PERSISTENT,
  ADD COLUMN starting_point VARCHAR(100) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL DEFAULT '',
  ADD COLUMN departed INT NOT NULL DEFAULT 0,
  ADD KEY groups_name_key (name_key),
  ADD KEY groups_domain (domain, name, id),
  ADD KEY groups_owners (owners, id),
  ADD KEY groups_external (external_members, id),
  ADD KEY groups_renewed (renewed_at, id);
