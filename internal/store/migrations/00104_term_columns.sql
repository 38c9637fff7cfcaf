-- +goose Up
ALTER TABLE mail_groups
  ADD COLUMN term_rule VARCHAR(100) NOT NULL DEFAULT '',
  ADD COLUMN term_key VARCHAR(400) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL DEFAULT '',
  ADD COLUMN due_at DATETIME(6) NOT NULL DEFAULT '9999-01-01',
  ADD COLUMN promises VARCHAR(1000) NOT NULL DEFAULT '',
  ADD COLUMN exempt_until DATETIME(6) NULL,
  ADD COLUMN kept VARCHAR(500) NOT NULL DEFAULT '',
  ADD COLUMN kept_by VARCHAR(320) NOT NULL DEFAULT '',
  ADD COLUMN kept_at DATETIME(6) NULL,
  ADD COLUMN ended_served INT NOT NULL DEFAULT 0,
  ADD KEY groups_due (ended_at, due_at, id),
  ADD KEY groups_term_key (term_key, expires_at),
  ADD KEY groups_exempt_until (exempt_until);
