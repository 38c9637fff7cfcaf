-- +goose Up
ALTER TABLE history_seals DROP KEY history_seals_erased, DROP COLUMN erased_in;
