-- +goose Up
-- Where feeds stood in their logs, for those that can be set back.
CREATE TABLE log_marks (
    feed_id bigint NOT NULL REFERENCES feeds ON DELETE CASCADE,
    at timestamptz NOT NULL DEFAULT now(),
    position text NOT NULL,
    PRIMARY KEY (feed_id, at)
);
