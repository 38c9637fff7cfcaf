-- +goose Up
ALTER TABLE bulk_items ADD COLUMN wants JSON NULL;
