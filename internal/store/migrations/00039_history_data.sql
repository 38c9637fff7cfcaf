-- +goose Up
ALTER TABLE history
  ADD COLUMN change_id UUID NULL AFTER id,
  CHANGE action kind VARCHAR(40) NOT NULL,
  ADD COLUMN data JSON NULL;
