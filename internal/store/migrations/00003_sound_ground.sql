-- +goose Up
CREATE TABLE key_check (sealed bytea NOT NULL); -- one row: a known text, sealed with the service's key
ALTER TABLE feeds ADD COLUMN deaths integer NOT NULL DEFAULT 0; -- runs in a row during which the service ended
ALTER TABLE feeds ADD COLUMN held jsonb; -- why the feed is held, while its state says so
ALTER TABLE runs ADD COLUMN stop boolean NOT NULL DEFAULT false; -- a person wants it stopped
