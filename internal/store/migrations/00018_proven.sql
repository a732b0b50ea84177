-- +goose Up
-- How far a proof has come that goes through its table in parts.
ALTER TABLE provings ADD COLUMN proven jsonb;
