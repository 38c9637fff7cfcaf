-- +goose Up
CREATE TABLE group_settings (
  group_id UUID NOT NULL,
  setting VARCHAR(24) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  value TINYINT UNSIGNED NOT NULL,
  PRIMARY KEY (group_id, setting),
  KEY group_settings_value (setting, value, group_id)
);
