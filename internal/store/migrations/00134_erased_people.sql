-- +goose Up
ALTER TABLE people ADD COLUMN erased_at DATETIME(6) NULL;
