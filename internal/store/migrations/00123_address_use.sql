-- +goose Up
ALTER TABLE addresses
  ADD COLUMN added_at DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6),
  ADD COLUMN used_at DATETIME(6) NULL,
  ADD KEY addresses_kind (kind, added_at);
