-- +goose Up
ALTER TABLE standings RENAME TO overrides, CHANGE standing kind TINYINT NOT NULL, ADD COLUMN version INT NOT NULL DEFAULT 1;
