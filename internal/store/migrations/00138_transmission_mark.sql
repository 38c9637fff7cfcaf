-- +goose Up
ALTER TABLE transmissions ADD COLUMN mark BIGINT NOT NULL DEFAULT 0;
