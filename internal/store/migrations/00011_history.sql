-- +goose Up
CREATE TABLE history (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  at DATETIME(6) NOT NULL,
  actor_id UUID NULL,
  actor VARCHAR(320) NOT NULL,
  via VARCHAR(16) NOT NULL,
  action VARCHAR(40) NOT NULL,
  group_id UUID NULL,
  subject VARCHAR(400) NOT NULL,
  changes JSON NOT NULL,
  request_id VARCHAR(100) NOT NULL,
  KEY history_group (group_id, id),
  KEY history_actor (actor_id, id)
);
