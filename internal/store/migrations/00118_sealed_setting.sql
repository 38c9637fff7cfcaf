-- +goose Up
INSERT IGNORE INTO settings (name, value, version) VALUES ('sealed', 'null', 0);
