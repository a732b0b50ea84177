-- Tables that are written at random, and a record of every change that their triggers
-- keep. What a warehouse must hold is computed from the record alone.
CREATE SEQUENCE versions;

CREATE TABLE record (
    seq bigserial PRIMARY KEY, tbl text NOT NULL, xid xid8 NOT NULL DEFAULT pg_current_xact_id(),
    op text NOT NULL, id text, v bigint, sum text
);
CREATE INDEX ON record (tbl, id, seq);

CREATE TYPE shelf AS ENUM ('low', 'high', 'hôch');

CREATE FUNCTION note_change() RETURNS trigger LANGUAGE plpgsql SET search_path = public AS $$
DECLARE
    sum text;
BEGIN
    IF TG_OP IN ('INSERT', 'UPDATE') THEN
        SELECT SUM_OF_ROW INTO sum FROM (SELECT NEW.*) AS row;
    END IF;
    IF TG_OP = 'TRUNCATE' THEN
        INSERT INTO record (tbl, op) VALUES (TG_TABLE_NAME, 'T');
    ELSIF TG_OP = 'INSERT' THEN
        INSERT INTO record (tbl, op, id, v, sum) VALUES (TG_TABLE_NAME, 'I', NEW.branch || '/' || NEW.no, NEW.v, sum);
    ELSIF TG_OP = 'DELETE' THEN
        INSERT INTO record (tbl, op, id) VALUES (TG_TABLE_NAME, 'D', OLD.branch || '/' || OLD.no);
    ELSIF (OLD.branch, OLD.no) = (NEW.branch, NEW.no) THEN
        INSERT INTO record (tbl, op, id, v, sum) VALUES (TG_TABLE_NAME, 'U', NEW.branch || '/' || NEW.no, NEW.v, sum);
    ELSE
        INSERT INTO record (tbl, op, id) VALUES (TG_TABLE_NAME, 'D', OLD.branch || '/' || OLD.no);
        INSERT INTO record (tbl, op, id, v, sum) VALUES (TG_TABLE_NAME, 'I', NEW.branch || '/' || NEW.no, NEW.v, sum);
    END IF;
    RETURN NULL;
END $$;

-- Every event of every key; a truncate is the delete of each key that was there.
CREATE VIEW events AS
SELECT seq, tbl, xid, op, id, v, sum, op <> 'D' AS live FROM record WHERE op <> 'T'
UNION ALL
SELECT t.seq, t.tbl, t.xid, 'D', l.id, NULL, NULL, false FROM record t
CROSS JOIN LATERAL (
    SELECT DISTINCT ON (r.id) r.id, r.op FROM record r
    WHERE r.tbl = t.tbl AND r.op <> 'T' AND r.seq < t.seq
      AND r.seq > coalesce((SELECT max(p.seq) FROM record p WHERE p.tbl = t.tbl AND p.op = 'T' AND p.seq < t.seq), 0)
    ORDER BY r.id, r.seq DESC) l
WHERE t.op = 'T' AND l.op <> 'D';

-- What each transaction left of each key. A key that it inserted and deleted again is left out.
CREATE VIEW states AS
SELECT * FROM (
    SELECT tbl, id, xid, min(seq) AS seq, (array_agg(op ORDER BY seq))[1] AS first, (array_agg(live ORDER BY seq DESC))[1] AS live,
           (array_agg(v ORDER BY seq DESC) FILTER (WHERE live))[1] AS v, (array_agg(sum ORDER BY seq DESC) FILTER (WHERE live))[1] AS sum
    FROM events GROUP BY tbl, id, xid) s
WHERE NOT (first = 'I' AND NOT live);

-- States that differ from the one before.
CREATE VIEW steps AS
SELECT tbl, id, seq, live, v, sum FROM (
    SELECT *, lag(live) OVER w AS was_live, lag(v) OVER w AS was_v, lag(sum) OVER w AS was_sum FROM states WINDOW w AS (PARTITION BY tbl, id ORDER BY seq)) s
WHERE CASE WHEN live THEN (was_live IS NOT TRUE OR v IS DISTINCT FROM was_v OR sum IS DISTINCT FROM was_sum) ELSE was_live END;

CREATE VIEW must_latest AS
SELECT tbl, id, v, sum FROM (SELECT DISTINCT ON (tbl, id) * FROM states ORDER BY tbl, id, seq DESC) s WHERE live;

-- Every row that ever was, with the last values it had.
CREATE VIEW must_soft_delete AS
SELECT tbl, id, max(seq) AS seq, (array_agg(v ORDER BY seq DESC) FILTER (WHERE live))[1] AS v,
       (array_agg(sum ORDER BY seq DESC) FILTER (WHERE live))[1] AS sum, NOT (array_agg(live ORDER BY seq DESC))[1] AS deleted
FROM events GROUP BY tbl, id;

CREATE VIEW must_history AS
SELECT tbl, id, seq, v, sum, lead(seq) OVER w IS NOT NULL AS closed, coalesce(NOT lag(live) OVER w, true) AS begins
FROM steps WINDOW w AS (PARTITION BY tbl, id ORDER BY seq);

CREATE VIEW must_ledger AS
SELECT tbl, id, seq, CASE op WHEN 'I' THEN 'insert' WHEN 'U' THEN 'update' ELSE 'delete' END AS change, v, sum FROM record WHERE op <> 'T';
