-- +goose Up
UPDATE notices n JOIN (SELECT group_id, expires_at, MAX(day) AS day FROM notices GROUP BY group_id, expires_at) f
  ON f.group_id = n.group_id AND f.expires_at = n.expires_at
  SET n.given_at = n.expires_at - INTERVAL n.day DAY, n.first = n.day = f.day;
