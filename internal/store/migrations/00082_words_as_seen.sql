-- +goose Up
-- Groups are found by their names as an eye takes them, too: they are indexed again.
UPDATE mail_groups SET name_key = '';
