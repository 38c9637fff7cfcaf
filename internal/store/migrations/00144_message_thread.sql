-- +goose Up
ALTER TABLE messages ADD COLUMN thread BINARY(16) NOT NULL DEFAULT '', ADD KEY messages_thread (thread);
