-- +goose Up
ALTER TABLE mail_groups
  ADD COLUMN policy VARCHAR(2000) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  ADD COLUMN revision INT NOT NULL DEFAULT 0,
  CHANGE standing exempt VARCHAR(500) NOT NULL,
  CHANGE standing_by exempt_by VARCHAR(320) NOT NULL;
