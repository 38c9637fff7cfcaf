-- +goose Up
ALTER TABLE mail_groups RENAME COLUMN ruled TO by_rule;
