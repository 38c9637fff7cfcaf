-- +goose Up
CREATE TABLE people (
  id UUID NOT NULL PRIMARY KEY,
  address VARCHAR(320) NOT NULL,
  addr_key VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  name VARCHAR(200) NOT NULL,
  external BOOLEAN NOT NULL,
  active BOOLEAN NOT NULL,
  workspace_role VARCHAR(16) NOT NULL,
  password_hash VARCHAR(200) NOT NULL,
  attributes JSON NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY people_address (addr_key),
  KEY people_name (external, name, id)
);
