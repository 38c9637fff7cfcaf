-- +goose Up
UPDATE mail_groups g JOIN group_settings s ON s.group_id = g.id AND s.setting = 'find' SET g.findable = s.value >= 4;
