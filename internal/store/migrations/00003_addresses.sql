-- +goose Up
CREATE TABLE addresses (
  addr_key VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL PRIMARY KEY,
  address VARCHAR(320) NOT NULL,
  kind TINYINT NOT NULL,
  ref UUID NOT NULL,
  alike VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  group_alike VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NULL,
  loose VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  UNIQUE KEY addresses_group_alike (group_alike),
  KEY addresses_alike (alike),
  KEY addresses_loose (loose),
  KEY addresses_ref (ref, kind)
);
