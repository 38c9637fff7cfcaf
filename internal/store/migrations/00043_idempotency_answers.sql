-- +goose Up
ALTER TABLE idempotency ADD COLUMN answer JSON NOT NULL DEFAULT 'null';
