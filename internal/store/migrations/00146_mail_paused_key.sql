-- +goose Up
ALTER TABLE people ADD KEY people_mail_paused (mail_paused_until);
