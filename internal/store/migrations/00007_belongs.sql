-- +goose Up
ALTER TABLE sources ADD COLUMN belongs jsonb NOT NULL DEFAULT '{}'; -- whose it is, and how it is found
ALTER TABLE warehouses ADD COLUMN belongs jsonb NOT NULL DEFAULT '{}';
