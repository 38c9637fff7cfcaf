-- +goose Up
INSERT INTO group_posts (group_id, last_at)
  SELECT group_id, MAX(received_at) FROM mailings WHERE group_id IS NOT NULL AND kind = 'post' AND state = 'accepted' AND mailbox = 0 GROUP BY group_id;
