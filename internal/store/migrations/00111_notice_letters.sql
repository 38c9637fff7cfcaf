-- +goose Up
CREATE TABLE notice_letters (
  group_id UUID NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  day INT NOT NULL,
  recipient VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
  tries INT NOT NULL DEFAULT 0,
  mailing_id UUID NOT NULL,
  given_at DATETIME(6) NULL,
  PRIMARY KEY (group_id, expires_at, day, recipient, tries),
  KEY notice_letters_mailing (mailing_id)
);
