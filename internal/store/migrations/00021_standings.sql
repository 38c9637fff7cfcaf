-- +goose Up
CREATE TABLE standings (
  group_id UUID NOT NULL,
  addr_key VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  standing TINYINT NOT NULL,
  reason VARCHAR(500) NOT NULL,
  set_by VARCHAR(320) NOT NULL,
  set_at DATETIME(6) NOT NULL,
  PRIMARY KEY (group_id, addr_key)
);
