-- +goose Up
CREATE TABLE channels ( -- who is told what, and how
    name text PRIMARY KEY,
    settings jsonb NOT NULL, -- without the secret
    secret bytea NOT NULL, -- sealed
    created_at timestamptz NOT NULL DEFAULT now(),
    told_at timestamptz,
    problem jsonb -- why the last message was not delivered
);
CREATE TABLE alerts ( -- what needs, or needed, a person
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind text NOT NULL,
    feed text NOT NULL, -- empty for a warehouse's disk
    about text NOT NULL, -- a table, or a warehouse; empty for the feed as a whole
    what text NOT NULL,
    remedy text NOT NULL,
    lag_seconds double precision,
    began_at timestamptz NOT NULL DEFAULT now(),
    ended_at timestamptz
);
CREATE UNIQUE INDEX alerts_open ON alerts (kind, feed, about) WHERE ended_at IS NULL;
CREATE INDEX ON alerts (id) WHERE ended_at IS NULL;
CREATE TABLE tellings ( -- which channel was told of which alert, and that it is over
    alert_id bigint NOT NULL REFERENCES alerts ON DELETE CASCADE,
    channel text NOT NULL REFERENCES channels ON DELETE CASCADE,
    ended boolean NOT NULL,
    at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (alert_id, channel, ended)
);
