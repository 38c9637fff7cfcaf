-- +goose Up
CREATE TABLE rule_attributes (
  attribute VARCHAR(60) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  group_id UUID NOT NULL,
  PRIMARY KEY (attribute, group_id),
  KEY rule_attributes_group (group_id)
);
