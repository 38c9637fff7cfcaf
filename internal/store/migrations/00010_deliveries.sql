-- +goose Up
CREATE TABLE deliveries (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  message_id UUID NOT NULL,
  recipient VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  state TINYINT NOT NULL,
  attempts INT NOT NULL,
  next_at DATETIME(6) NOT NULL,
  done_at DATETIME(6) NULL,
  last_error VARCHAR(500) NOT NULL,
  UNIQUE KEY deliveries_once (message_id, recipient),
  KEY deliveries_due (state, next_at, id)
);
