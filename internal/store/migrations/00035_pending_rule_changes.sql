-- +goose Up
ALTER TABLE group_rules CHANGE held pending JSON NULL, ADD COLUMN version INT NOT NULL DEFAULT 1;
