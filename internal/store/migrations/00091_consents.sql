-- +goose Up
CREATE TABLE consents (
  id UUID NOT NULL PRIMARY KEY,
  group_id UUID NOT NULL,
  outer_id UUID NOT NULL,
  scope TINYINT NOT NULL DEFAULT 0,
  post TINYINT NOT NULL DEFAULT 0,
  asked_by VARCHAR(320) NOT NULL,
  asked_at DATETIME(6) NOT NULL,
  told BOOLEAN NOT NULL DEFAULT 1,
  decided_by VARCHAR(320) NOT NULL DEFAULT '',
  decided_at DATETIME(6) NULL,
  UNIQUE KEY consents_outer (outer_id, group_id),
  KEY consents_group (group_id, scope, asked_at),
  KEY consents_asked (scope, asked_at, id),
  KEY consents_told (told, id)
);
