-- +goose Up
ALTER TABLE history_people ADD KEY history_people_label (label, person_id);
