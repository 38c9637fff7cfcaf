-- +goose Up
ALTER TABLE idempotency DROP COLUMN group_id, ADD KEY idempotency_created (created_at);
