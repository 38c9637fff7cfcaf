-- +goose Up
INSERT IGNORE INTO settings (name, value, version) VALUES ('ceilings', 'null', 0);
