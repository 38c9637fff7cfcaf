-- +goose Up
CREATE TABLE signing_keys (
  domain VARCHAR(255) NOT NULL,
  selector VARCHAR(63) NOT NULL,
  private_key BLOB NOT NULL,
  public_key TEXT NOT NULL,
  used BOOLEAN NOT NULL,
  made_at DATETIME(6) NOT NULL,
  made_by VARCHAR(320) NOT NULL,
  used_at DATETIME(6) NULL,
  PRIMARY KEY (domain, selector)
);
