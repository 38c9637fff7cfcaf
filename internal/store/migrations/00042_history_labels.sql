-- +goose Up
ALTER TABLE history_people ADD COLUMN label VARCHAR(320) NULL;
