-- +goose Up
ALTER TABLE people
  ADD COLUMN departed_at DATETIME(6) NULL,
  ADD COLUMN version INT NOT NULL DEFAULT 1,
  ADD KEY people_here (external, active, name, id);
