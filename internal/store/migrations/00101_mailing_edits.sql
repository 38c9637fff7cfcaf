-- +goose Up
ALTER TABLE mailings ADD COLUMN edits MEDIUMBLOB NULL;
