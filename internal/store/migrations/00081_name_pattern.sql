-- +goose Up
-- A prefix and a suffix are one pattern with the name between them.
UPDATE settings SET value = JSON_REMOVE(JSON_SET(value, '$.pattern',
    IF(CONCAT(COALESCE(JSON_VALUE(value, '$.prefix'), ''), COALESCE(JSON_VALUE(value, '$.suffix'), '')) = '', '',
       CONCAT(COALESCE(JSON_VALUE(value, '$.prefix'), ''), '{name}', COALESCE(JSON_VALUE(value, '$.suffix'), '')))), '$.prefix', '$.suffix')
  WHERE name = 'naming' AND JSON_TYPE(value) = 'OBJECT';
