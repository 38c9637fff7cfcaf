-- +goose Up
ALTER TABLE history ADD COLUMN part BOOLEAN NOT NULL DEFAULT FALSE, ADD KEY history_whole (part, id);
