-- +goose Up
ALTER TABLE history ADD KEY history_at (at, id);
