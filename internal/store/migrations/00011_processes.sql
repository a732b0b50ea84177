-- +goose Up
CREATE TABLE processes ( -- of the service, while they live
    id         text PRIMARY KEY,
    host       text NOT NULL,
    pid        integer NOT NULL,
    version    text NOT NULL,
    address    text NOT NULL,
    started_at timestamptz NOT NULL DEFAULT now(),
    seen_at    timestamptz NOT NULL DEFAULT now(),
    draining   boolean NOT NULL DEFAULT false, -- it is to take up no more work
    drained    boolean NOT NULL DEFAULT false  -- it does, and has none left
);

CREATE TABLE places ( -- of warehouses that are files: where they are, and who has them open
    warehouse text PRIMARY KEY REFERENCES warehouses (name) ON UPDATE CASCADE ON DELETE CASCADE,
    host      text NOT NULL,
    process   text NOT NULL
);

-- A process lives as long as it holds its lock, which the database lets go when the process dies.
-- +goose StatementBegin
CREATE FUNCTION process_lock(id text) RETURNS void LANGUAGE sql AS $$ SELECT pg_advisory_lock(1852794221, hashtext(id)) $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION process_lives(id text) RETURNS boolean LANGUAGE sql STABLE AS $$
SELECT EXISTS (SELECT 1 FROM pg_locks WHERE locktype = 'advisory' AND granted AND classid = 1852794221
  AND database = (SELECT oid FROM pg_database WHERE datname = current_database())
  AND objid = (hashtext(id)::bigint & 4294967295)::oid) $$;
-- +goose StatementEnd
