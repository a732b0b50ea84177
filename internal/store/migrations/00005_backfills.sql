-- +goose Up
CREATE TABLE backfills ( -- ranges of tables that are read again, beside the regular runs
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    feed_id bigint NOT NULL REFERENCES feeds ON DELETE CASCADE,
    source_table text NOT NULL,
    range jsonb NOT NULL,
    state text NOT NULL DEFAULT 'waiting', -- waiting, running, paused, done, stopped
    slices bigint NOT NULL,
    done bigint NOT NULL DEFAULT 0, -- slices, in the order in which they are read
    books jsonb NOT NULL,
    problem jsonb, -- why the last slice was not read
    failures integer NOT NULL DEFAULT 0, -- in a row
    next_at timestamptz NOT NULL DEFAULT now(), -- not before this
    asked_at timestamptz NOT NULL DEFAULT now(),
    started_at timestamptz,
    ended_at timestamptz
);
CREATE INDEX ON backfills (feed_id);
