-- +goose Up
-- There is a row to lock from the beginning; null says that no rule was set.
INSERT IGNORE INTO settings (name, value, version) VALUES ('expiry', 'null', 0);
