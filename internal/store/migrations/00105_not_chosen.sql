-- +goose Up
-- Groups that no term was chosen for are exempt: a rule is for all that its filter names.
UPDATE mail_groups g JOIN settings s ON s.name = 'expiry' AND JSON_VALUE(s.value, '$.scope') = 'chosen' AND JSON_VALUE(s.value, '$.term_days') > 0
  SET g.exempt = 'It was not among the groups that a term was chosen for.', g.exempt_by = 'the workspace' WHERE NOT g.chosen AND g.exempt = '';
