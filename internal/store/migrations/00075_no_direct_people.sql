-- +goose Up
ALTER TABLE mail_groups DROP KEY groups_people, DROP COLUMN people;
