-- +goose Up
UPDATE idempotency SET answer = JSON_OBJECT('id', group_id);
