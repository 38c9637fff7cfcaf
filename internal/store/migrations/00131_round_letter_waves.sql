-- +goose Up
ALTER TABLE round_letters CHANGE stage wave SMALLINT NOT NULL;
