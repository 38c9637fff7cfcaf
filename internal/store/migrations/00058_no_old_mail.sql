-- +goose Up
DROP TABLE old_messages, old_deliveries;
