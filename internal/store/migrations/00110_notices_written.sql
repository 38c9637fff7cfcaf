-- +goose Up
UPDATE notices SET asked_at = COALESCE(given_at, '1970-01-01'), written = TRUE;
