-- +goose Up
CREATE TABLE transmissions (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  mailing_id UUID NOT NULL,
  at DATETIME(6) NOT NULL,
  people INT NOT NULL,
  first VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  last VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  recipients MEDIUMBLOB NOT NULL,
  KEY transmissions_mailing (mailing_id, first, last)
);
