CREATE SCHEMA IF NOT EXISTS noemata;
CREATE TABLE IF NOT EXISTS noemata.positions (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, position VARCHAR, version BIGINT NOT NULL, run BIGINT NOT NULL,
    moved_at TIMESTAMP WITH TIME ZONE NOT NULL, PRIMARY KEY (feed, source_table));
CREATE TABLE IF NOT EXISTS noemata.loads (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, target VARCHAR NOT NULL, run BIGINT NOT NULL,
    from_position VARCHAR, to_position VARCHAR, rows_read BIGINT NOT NULL, rows_filtered BIGINT NOT NULL, rows_folded BIGINT NOT NULL,
    rows_set_aside BIGINT NOT NULL, rows_unchanged BIGINT NOT NULL, rows_inserted BIGINT NOT NULL, rows_updated BIGINT NOT NULL,
    rows_deleted BIGINT NOT NULL, committed_at TIMESTAMP WITH TIME ZONE NOT NULL);
CREATE TABLE IF NOT EXISTS noemata.set_aside (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, digest VARCHAR NOT NULL, key VARCHAR NOT NULL, content VARCHAR NOT NULL,
    reason VARCHAR NOT NULL, run BIGINT NOT NULL, noted_at TIMESTAMP WITH TIME ZONE NOT NULL);
CREATE TABLE IF NOT EXISTS noemata.sweeps (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, swept_at TIMESTAMP WITH TIME ZONE NOT NULL, keys_read BIGINT NOT NULL,
    keys_gone BIGINT NOT NULL, PRIMARY KEY (feed, source_table));
CREATE TABLE IF NOT EXISTS noemata.logs (
    feed VARCHAR NOT NULL PRIMARY KEY, name VARCHAR NOT NULL, origin VARCHAR NOT NULL, last_moment BIGINT NOT NULL);
CREATE TABLE IF NOT EXISTS noemata.copies (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, state VARCHAR NOT NULL, generation BIGINT NOT NULL, layout VARCHAR NOT NULL,
    snapshots VARCHAR NOT NULL, reached VARCHAR NOT NULL, moment BIGINT NOT NULL, PRIMARY KEY (feed, source_table));
CREATE TABLE IF NOT EXISTS noemata.copy_parts (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, generation BIGINT NOT NULL, part BIGINT NOT NULL, snapshot BIGINT NOT NULL,
    row_count BIGINT NOT NULL, aside_count BIGINT NOT NULL, PRIMARY KEY (feed, source_table, generation, part));
INSERT INTO noemata.positions (feed, source_table, position, version, run, moved_at) VALUES ('circulation', '', '00000000/01A2B3C0', 12, 7, now());
INSERT INTO noemata.positions (feed, source_table, position, version, run, moved_at) VALUES ('patrons', 'public.patrons', '2026-03-02T09:00:00.000000Z', 2, 8, now());
INSERT INTO noemata.loads (feed, source_table, target, run, from_position, to_position, rows_read, rows_filtered, rows_folded, rows_set_aside, rows_unchanged, rows_inserted, rows_updated, rows_deleted, committed_at)
VALUES ('patrons', 'public.patrons', 'kept.patrons', 5, NULL, '2026-03-01T09:00:00.000000Z', 4, 0, 0, 0, 0, 4, 0, 0, now());
INSERT INTO noemata.sweeps (feed, source_table, swept_at, keys_read, keys_gone) VALUES ('patrons', 'public.patrons', now(), 4, 0);
INSERT INTO noemata.logs (feed, name, origin, last_moment) VALUES ('circulation', 'noemata_circulation_ab12cd34', '7301', 1772348400000123);
INSERT INTO noemata.copies (feed, source_table, state, generation, layout, snapshots, reached, moment) VALUES ('circulation', 'public.loans', 'following', 1, '{"key":["id"],"columns":["id","copy"],"target":"kept.loans"}', '[]', '', 0);
INSERT INTO noemata.copies (feed, source_table, state, generation, layout, snapshots, reached, moment) VALUES ('circulation', 'public.holds', 'held', 3, '{"code":"held","what":"The key was changed.","remedy":"Copy it.","heals":false}', '[]', '', 0);
INSERT INTO noemata.copies (feed, source_table, state, generation, layout, snapshots, reached, moment) VALUES ('circulation', 'public.copies', 'copying', 2, '16390 4 parts', '["100:104:102"]', '', 0);
INSERT INTO noemata.copy_parts (feed, source_table, generation, part, snapshot, row_count, aside_count) VALUES ('circulation', 'public.copies', 2, 0, 1, 5000, 1);
