-- +goose Up
ALTER TABLE history ADD KEY history_kind (kind, id);
