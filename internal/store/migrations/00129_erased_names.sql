-- +goose Up
ALTER TABLE history_seals ADD COLUMN names BINARY(32) NULL, ADD COLUMN erased_in UUID NULL, ADD KEY history_seals_erased (erased_in);
