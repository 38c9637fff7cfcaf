-- +goose Up
-- rows that have to be there to be locked
INSERT IGNORE INTO settings (name, value, version) VALUES ('terms', 'null', 0), ('served', 'null', 0);
