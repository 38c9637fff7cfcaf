-- +goose Up
-- Those who have left the organisation are counted by themselves.
UPDATE mail_groups g JOIN (
  SELECT m.group_id, COUNT(*) AS n, SUM(m.role = 3) AS owners, SUM(m.role = 2) AS moderators, SUM(m.role = 1) AS members
  FROM memberships m JOIN people p ON p.id = m.member_id AND NOT p.active WHERE m.kind = 1 GROUP BY m.group_id
) d ON d.group_id = g.id
SET g.departed = d.n, g.owners = g.owners - d.owners, g.moderators = g.moderators - d.moderators, g.members = g.members - d.members;
