-- counts as inserted
INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_changed_at", "nm_position", "nm_run") SELECT "id", CAST("n""ote" AS JSON), "at", "nm_changed_at", "nm_position", 7 FROM (SELECT "id", CAST("n""ote" AS VARCHAR) AS "n""ote", "at", "nm_changed_at", "nm_position" FROM stage EXCEPT ALL SELECT "id", CAST("n""ote" AS VARCHAR) AS "n""ote", "at", "nm_changed_at", "nm_position" FROM "sh""elf"."loans" WHERE "at" >= (SELECT min("at") FROM stage) AND "at" <= (SELECT max("at") FROM stage)) AS fresh;

