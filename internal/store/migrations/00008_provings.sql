-- +goose Up
CREATE TABLE provings ( -- comparisons of tables, and repairs, that were asked for
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    feed_id bigint NOT NULL REFERENCES feeds ON DELETE CASCADE,
    source_table text NOT NULL,
    repair boolean NOT NULL,
    state text NOT NULL DEFAULT 'waiting', -- waiting, running, done, failed, stopped
    asked_by text NOT NULL, -- the name of a token; empty for the feed's file
    asked_at timestamptz NOT NULL DEFAULT now(),
    started_at timestamptz,
    ended_at timestamptz,
    phase text NOT NULL DEFAULT '',
    read bigint NOT NULL DEFAULT 0,
    expected bigint NOT NULL DEFAULT 0,
    proof jsonb,
    differences jsonb,
    repaired jsonb,
    problem jsonb,
    statements jsonb
);
CREATE INDEX ON provings (feed_id, id);
CREATE UNIQUE INDEX provings_waiting ON provings (feed_id, source_table, repair) WHERE state = 'waiting';
