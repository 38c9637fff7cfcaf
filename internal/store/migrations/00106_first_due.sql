-- +goose Up
UPDATE mail_groups g JOIN settings s ON s.name = 'expiry' AND JSON_VALUE(s.value, '$.term_days') > 0
  SET g.term_rule = 'Everything else', g.term_key = 'everything else', g.due_at = g.expires_at - INTERVAL COALESCE(JSON_VALUE(s.value, '$.notices[0]'), 0) DAY WHERE g.expires_at < '9999-01-01';
