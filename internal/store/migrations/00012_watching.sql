-- +goose Up
CREATE TABLE log_entries ( -- what runs say, in their order
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at           timestamptz NOT NULL DEFAULT clock_timestamp(),
    feed_id      bigint NOT NULL REFERENCES feeds ON DELETE CASCADE,
    run_id       bigint REFERENCES runs ON DELETE CASCADE,
    source_table text NOT NULL,
    level        text NOT NULL,
    what         text NOT NULL,
    remedy       text NOT NULL
);
CREATE INDEX log_entries_by_feed ON log_entries (feed_id, id);
CREATE INDEX log_entries_by_run ON log_entries (run_id);
CREATE INDEX log_entries_by_time ON log_entries (at);

CREATE TABLE volumes ( -- what was done for a table on a day; of no table what was for all of a feed
    feed_id           bigint NOT NULL REFERENCES feeds ON DELETE CASCADE,
    source_table      text NOT NULL,
    day               date NOT NULL,
    read              bigint NOT NULL DEFAULT 0,
    inserted          bigint NOT NULL DEFAULT 0,
    updated           bigint NOT NULL DEFAULT 0,
    deleted           bigint NOT NULL DEFAULT 0,
    set_aside         bigint NOT NULL DEFAULT 0,
    bytes             bigint NOT NULL DEFAULT 0, -- of the rows that were read
    reading           double precision NOT NULL DEFAULT 0, -- seconds
    writing           double precision NOT NULL DEFAULT 0, -- seconds
    statements        bigint NOT NULL DEFAULT 0, -- at the source
    statement_seconds double precision NOT NULL DEFAULT 0,
    PRIMARY KEY (feed_id, source_table, day)
);

CREATE TABLE retention ( -- how long things are kept, where an administrator has said so
    what text PRIMARY KEY,
    keep text NOT NULL -- a length of time, or: forever
);
CREATE INDEX runs_by_end ON runs (ended_at);
