-- +goose Up
INSERT INTO external_members (group_id, member_id, voucher_id)
  SELECT m.group_id, m.member_id, (SELECT v.id FROM people v WHERE v.addr_key = m.added_by AND v.active AND NOT v.external)
  FROM people p JOIN memberships m ON m.member_id = p.id WHERE p.external;
