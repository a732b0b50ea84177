-- +goose Up
-- What people and programs may ask, and how they sign in to ask. A verifier is SCRAM's: the stored key, then the
-- server's (RFC 5802, 3).
ALTER TABLE users ADD COLUMN asks text[] NOT NULL DEFAULT '{}', ADD COLUMN verifier bytea;
ALTER TABLE tokens ADD COLUMN asks text[] NOT NULL DEFAULT '{}', ADD COLUMN verifier bytea;
ALTER TABLE key_check ADD COLUMN salt uuid NOT NULL DEFAULT gen_random_uuid(); -- of verifiers, together with a name
CREATE TABLE questions ( -- that warehouses were asked
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at         timestamptz NOT NULL DEFAULT now(),
    by_name    text NOT NULL,
    address    text NOT NULL,
    way        text NOT NULL, -- api or sql
    warehouse  text NOT NULL,
    sql        text NOT NULL,
    process    text NOT NULL,
    state      text NOT NULL DEFAULT 'running', -- or done, failed, stopped
    stop       text NOT NULL DEFAULT '', -- who has asked to stop it
    ended_at   timestamptz,
    rows       bigint NOT NULL DEFAULT 0,
    problem    text NOT NULL DEFAULT ''
);
CREATE INDEX questions_by ON questions (by_name, id DESC);
CREATE INDEX questions_running ON questions (process) WHERE state = 'running';
CREATE TABLE saved_questions ( -- that people share
    name       text PRIMARY KEY,
    warehouse  text NOT NULL,
    sql        text NOT NULL,
    by_name    text NOT NULL,
    at         timestamptz NOT NULL DEFAULT now()
);
