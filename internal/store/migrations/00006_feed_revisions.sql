-- +goose Up
CREATE TABLE feed_revisions ( -- what a feed's file has said, from one change to the next
    feed_id bigint NOT NULL REFERENCES feeds ON DELETE CASCADE,
    revision bigint NOT NULL,
    spec jsonb NOT NULL,
    applied_by text NOT NULL, -- the name of a token; empty where it is not known
    applied_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (feed_id, revision)
);
INSERT INTO feed_revisions (feed_id, revision, spec, applied_by, applied_at)
SELECT id, 1, spec, '', updated_at FROM feeds;
