-- +goose Up
ALTER TABLE feeds ADD COLUMN copy_again text[]; -- tables that the next run copies anew; empty is all
ALTER TABLE feeds ADD COLUMN log jsonb; -- how a feed that follows a change log is doing
ALTER TABLE feed_tables ADD COLUMN key text[]; -- the columns that name its rows, once it was looked at
ALTER TABLE feed_tables ADD COLUMN copy jsonb; -- how its copy is doing, until it follows the log

-- How far a feed was behind, and what it applied, over time.
CREATE TABLE log_samples (
    feed_id    bigint NOT NULL REFERENCES feeds ON DELETE CASCADE,
    at         timestamptz NOT NULL DEFAULT now(),
    lag        double precision, -- seconds
    behind     bigint NOT NULL,  -- bytes
    retained   bigint NOT NULL,  -- bytes
    applied    bigint NOT NULL   -- changes since the sample before
);
CREATE INDEX log_samples_by_feed ON log_samples (feed_id, at);
