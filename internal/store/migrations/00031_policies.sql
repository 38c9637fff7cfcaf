-- +goose Up
UPDATE mail_groups SET policy = CONCAT(
  'find=', ELT(find + 1, 'nobody', 'owners', 'moderators', 'members', 'workspace', 'anyone'), ' see_people=', ELT(see_people + 1, 'nobody', 'owners', 'moderators', 'members', 'workspace', 'anyone'),
  ' read=', ELT(read_archive + 1, 'nobody', 'owners', 'moderators', 'members', 'workspace', 'anyone'), ' post=', ELT(post + 1, 'nobody', 'owners', 'moderators', 'members', 'workspace', 'anyone'),
  ' write_owners=', ELT(write_owners + 1, 'nobody', 'owners', 'moderators', 'members', 'workspace', 'anyone'), ' add_people=', ELT(add_people + 1, 'nobody', 'owners', 'moderators', 'members', 'workspace', 'anyone'),
  ' speak_as=', ELT(speak_as + 1, 'nobody', 'owners', 'moderators', 'members', 'workspace', 'anyone'), ' speak_for=', ELT(speak_for + 1, 'nobody', 'owners', 'moderators', 'members', 'workspace', 'anyone'),
  ' join.audience=', ELT(join_audience + 1, 'nobody', 'owners', 'moderators', 'members', 'workspace', 'anyone'), ' join.how=', ELT(join_how + 1, 'freely', 'asking'),
  ' leave=', ELT(leaving + 1, 'free', 'asking', 'fixed'), ' externals=', ELT(externals + 1, 'barred', 'owners', 'adders'),
  ' hold=', ELT(hold + 1, 'nobody', 'outsiders', 'non_members', 'newcomers', 'everyone'),
  ' suspicious=', ELT(suspicious + 1, 'deliver', 'hold', 'refuse'));
INSERT INTO group_settings (group_id, setting, value)
  SELECT id, 'find', find FROM mail_groups UNION ALL SELECT id, 'see_people', see_people FROM mail_groups UNION ALL
  SELECT id, 'read', read_archive FROM mail_groups UNION ALL SELECT id, 'post', post FROM mail_groups UNION ALL
  SELECT id, 'write_owners', write_owners FROM mail_groups UNION ALL SELECT id, 'add_people', add_people FROM mail_groups UNION ALL
  SELECT id, 'speak_as', speak_as FROM mail_groups UNION ALL SELECT id, 'speak_for', speak_for FROM mail_groups UNION ALL
  SELECT id, 'join.audience', join_audience FROM mail_groups UNION ALL SELECT id, 'join.how', join_how FROM mail_groups UNION ALL
  SELECT id, 'leave', leaving FROM mail_groups UNION ALL SELECT id, 'externals', externals FROM mail_groups UNION ALL
  SELECT id, 'hold', hold FROM mail_groups UNION ALL SELECT id, 'suspicious', suspicious FROM mail_groups;
