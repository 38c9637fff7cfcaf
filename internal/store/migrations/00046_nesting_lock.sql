-- +goose Up
INSERT IGNORE INTO settings (name, value, version) VALUES ('nesting', 'null', 0);
