-- +goose Up
-- Proofs of what changed lately: the value of the watermark from which on rows are looked at.
ALTER TABLE provings ADD COLUMN since text NOT NULL DEFAULT '';
DROP INDEX provings_waiting;
CREATE UNIQUE INDEX provings_waiting ON provings (feed_id, source_table, repair, since) WHERE state = 'waiting';
