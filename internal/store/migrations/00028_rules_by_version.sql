-- +goose Up
DROP TABLE rule_attributes;
