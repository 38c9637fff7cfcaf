-- +goose Up
ALTER TABLE mailings ADD COLUMN passed_at DATETIME(6) NULL;
