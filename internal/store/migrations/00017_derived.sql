-- +goose Up
-- Derived tables: what their files say, how each is doing, and each making of one.
CREATE TABLE derived_sets (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    warehouse  text NOT NULL REFERENCES warehouses (name),
    spec       jsonb NOT NULL,
    active     boolean NOT NULL DEFAULT true,
    applied_by text NOT NULL,
    applied_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE derived_tables (
    set_id     bigint NOT NULL REFERENCES derived_sets ON DELETE CASCADE,
    name       text NOT NULL, -- as its file has it
    reads      jsonb NOT NULL, -- names of tables, as the warehouse tells them apart
    state      text NOT NULL DEFAULT 'new',
    why        text NOT NULL DEFAULT '',
    problem    jsonb,
    tried      jsonb, -- what it was tried to be made of last: its definition, and versions of what it reads
    tried_at   timestamptz,
    failures   integer NOT NULL DEFAULT 0, -- in a row
    rows       bigint,
    made_at    timestamptz,
    took       double precision NOT NULL DEFAULT 0,
    checks     jsonb NOT NULL DEFAULT '[]',
    wanted_by  text NOT NULL DEFAULT '', -- who has asked for it to be made now
    PRIMARY KEY (set_id, name)
);
CREATE TABLE derivations (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    set_id     bigint NOT NULL REFERENCES derived_sets ON DELETE CASCADE,
    name       text NOT NULL,
    why        text NOT NULL,
    state      text NOT NULL DEFAULT 'running', -- or done, failed, kept, stopped
    process    text NOT NULL,
    started_at timestamptz NOT NULL DEFAULT now(),
    ended_at   timestamptz,
    stop       text NOT NULL DEFAULT '', -- who has asked to stop it
    rows       bigint NOT NULL DEFAULT 0,
    inserted   bigint NOT NULL DEFAULT 0,
    updated    bigint NOT NULL DEFAULT 0,
    deleted    bigint NOT NULL DEFAULT 0,
    same       boolean NOT NULL DEFAULT false,
    parts      bigint,
    checks     jsonb NOT NULL DEFAULT '[]',
    problem    jsonb,
    statements jsonb
);
CREATE INDEX derivations_of ON derivations (set_id, name, id DESC);
