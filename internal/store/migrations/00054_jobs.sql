-- +goose Up
CREATE TABLE jobs (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  mailing_id UUID NOT NULL,
  recipients MEDIUMBLOB NULL,
  as_of DATETIME(6) NOT NULL,
  handed_to VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  attempts INT NOT NULL,
  next_at DATETIME(6) NOT NULL,
  worker UUID NULL,
  reply VARCHAR(500) NOT NULL,
  KEY jobs_due (next_at),
  KEY jobs_mailing (mailing_id)
);
