-- +goose Up
ALTER TABLE people ADD COLUMN mail_paused_until DATETIME(6) NULL, ADD COLUMN mail_paused_why VARCHAR(16) NOT NULL DEFAULT '';
