-- +goose Up
ALTER TABLE history
  DROP COLUMN subject, DROP COLUMN changes,
  MODIFY change_id UUID NOT NULL,
  MODIFY data JSON NOT NULL,
  ADD KEY history_change (change_id, id);
