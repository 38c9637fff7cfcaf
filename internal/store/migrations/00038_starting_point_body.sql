-- +goose Up
ALTER TABLE starting_points DROP COLUMN body;
