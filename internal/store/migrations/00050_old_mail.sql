-- +goose Up
RENAME TABLE messages TO old_messages, deliveries TO old_deliveries;
