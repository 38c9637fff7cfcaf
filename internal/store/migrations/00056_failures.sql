-- +goose Up
CREATE TABLE failures (
  mailing_id UUID NOT NULL,
  recipient VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  given_up BOOLEAN NOT NULL,
  attempts INT NOT NULL,
  at DATETIME(6) NOT NULL,
  reply VARCHAR(500) NOT NULL,
  PRIMARY KEY (mailing_id, recipient)
);
