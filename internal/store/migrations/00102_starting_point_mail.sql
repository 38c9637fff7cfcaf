-- +goose Up
ALTER TABLE starting_points ADD COLUMN mail TEXT NOT NULL DEFAULT '{}';
