-- +goose Up
INSERT IGNORE INTO settings (name, value, version) VALUES ('views', 'null', 0);
