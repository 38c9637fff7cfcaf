-- +goose Up
ALTER TABLE sign_in_attempts ADD KEY sign_in_attempts_source (source, last_at);
