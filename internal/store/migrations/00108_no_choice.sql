-- +goose Up
ALTER TABLE mail_groups DROP COLUMN chosen;
