-- +goose Up
ALTER TABLE mail_groups
  DROP KEY groups_post,
  DROP COLUMN find, DROP COLUMN see_people, DROP COLUMN read_archive, DROP COLUMN post, DROP COLUMN write_owners, DROP COLUMN add_people,
  DROP COLUMN speak_as, DROP COLUMN speak_for, DROP COLUMN join_audience, DROP COLUMN join_how, DROP COLUMN leaving, DROP COLUMN externals,
  DROP COLUMN hold, DROP COLUMN suspicious;
