-- +goose Up
ALTER TABLE transmissions ADD COLUMN job_id BIGINT NOT NULL DEFAULT 0;
