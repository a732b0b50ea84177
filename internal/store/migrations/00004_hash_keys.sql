-- +goose Up
CREATE TABLE hash_keys ( -- that columns are hashed with; each is sealed with the service's key
    name text PRIMARY KEY,
    sealed bytea NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now()
);

-- Of a feed with patterns: the tables that they stood for when the source was looked at last.
ALTER TABLE feeds ADD COLUMN found jsonb NOT NULL DEFAULT '[]';
