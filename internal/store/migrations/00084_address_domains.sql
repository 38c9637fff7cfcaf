-- +goose Up
ALTER TABLE addresses
  ADD COLUMN domain VARCHAR(255) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin AS (SUBSTRING_INDEX(addr_key, '@', -1)) PERSISTENT,
  ADD KEY addresses_domain (domain, kind);
