-- +goose Up
ALTER TABLE join_links CHANGE most max_uses INT NOT NULL;
