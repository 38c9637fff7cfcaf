-- +goose Up
CREATE TABLE hidings (n BIGINT NOT NULL) AS SELECT 0 AS n;
