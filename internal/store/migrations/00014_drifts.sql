-- +goose Up
ALTER TABLE feeds ADD COLUMN drift jsonb; -- what has changed last of the structure of a table, as the warehouse has it
