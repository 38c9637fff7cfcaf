-- +goose Up
ALTER TABLE overrides ADD KEY overrides_address (addr_key);
