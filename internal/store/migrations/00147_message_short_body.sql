-- +goose Up
ALTER TABLE messages ADD COLUMN short_body MEDIUMBLOB NULL;
