-- +goose Up
UPDATE credentials SET scopes = 'everything' WHERE kind = 'token';
