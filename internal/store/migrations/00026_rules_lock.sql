-- +goose Up
INSERT IGNORE INTO settings (name, value, version) VALUES ('rules', 'null', 0);
