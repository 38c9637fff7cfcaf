-- +goose Up
CREATE TABLE group_sizes (
  group_id UUID NOT NULL PRIMARY KEY,
  people INT NOT NULL,
  shown INT NOT NULL,
  KEY group_sizes_people (people, group_id),
  KEY group_sizes_shown (shown, group_id)
);
