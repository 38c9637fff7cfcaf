-- +goose Up
ALTER TABLE mail_groups ADD COLUMN mail TEXT NOT NULL DEFAULT '{}';
