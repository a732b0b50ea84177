-- +goose Up
CREATE TABLE sources (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    kind       text NOT NULL,
    settings   jsonb NOT NULL,
    secret     bytea NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    updated_at timestamptz NOT NULL DEFAULT now(),
    tested_at  timestamptz,
    version    text NOT NULL DEFAULT '',
    problem    jsonb
);

CREATE TABLE warehouses (LIKE sources INCLUDING ALL);

CREATE TABLE feeds (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    source     text NOT NULL REFERENCES sources (name),
    warehouse  text NOT NULL REFERENCES warehouses (name),
    spec       jsonb NOT NULL,
    state      text NOT NULL DEFAULT 'paused',
    failures   integer NOT NULL DEFAULT 0, -- runs in a row that failed
    next_run_at timestamptz,
    created_at timestamptz NOT NULL DEFAULT now(),
    updated_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE feed_tables (
    feed_id      bigint NOT NULL REFERENCES feeds ON DELETE CASCADE,
    source_table text NOT NULL,
    target       text NOT NULL DEFAULT '',
    position     text NOT NULL DEFAULT '',
    complete_at  timestamptz,
    row_count    bigint,
    nulls        bigint NOT NULL DEFAULT 0,
    set_aside    bigint NOT NULL DEFAULT 0,
    last_run     bigint NOT NULL DEFAULT 0,
    last_run_at  timestamptz,
    changed      bigint NOT NULL DEFAULT 0,
    changed_at   timestamptz,
    problem      jsonb,
    proof        jsonb,
    PRIMARY KEY (feed_id, source_table)
);

CREATE TABLE runs (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    feed_id    bigint NOT NULL REFERENCES feeds ON DELETE CASCADE,
    trigger    text NOT NULL,
    state      text NOT NULL,
    worker     text NOT NULL DEFAULT '',
    queued_at  timestamptz NOT NULL DEFAULT now(),
    started_at timestamptz,
    ended_at   timestamptz,
    books      jsonb NOT NULL DEFAULT '{}',
    problem    jsonb
);
CREATE INDEX runs_by_feed ON runs (feed_id, id DESC);
CREATE INDEX runs_open ON runs (feed_id) WHERE state IN ('queued', 'running');

CREATE TABLE run_tables (
    run_id       bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    place        integer NOT NULL,
    source_table text NOT NULL,
    detail       jsonb NOT NULL,
    PRIMARY KEY (run_id, source_table)
);

CREATE TABLE statements (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    run_id       bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    source_table text NOT NULL,
    side         text NOT NULL,
    statement    text NOT NULL,
    row_count    bigint NOT NULL,
    started_at   timestamptz NOT NULL,
    took_us      bigint NOT NULL,
    error        text NOT NULL
);
CREATE INDEX statements_by_run ON statements (run_id, id);

CREATE TABLE tokens (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name         text NOT NULL,
    hash         bytea NOT NULL UNIQUE, -- SHA-256 of the token
    created_at   timestamptz NOT NULL DEFAULT now(),
    last_used_at timestamptz
);

CREATE TABLE sessions (
    hash       bytea PRIMARY KEY, -- SHA-256 of the cookie
    token_id   bigint NOT NULL REFERENCES tokens ON DELETE CASCADE,
    expires_at timestamptz NOT NULL
);
