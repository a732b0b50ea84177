-- counts as nothing
DELETE FROM stage WHERE "nm_position" <= (SELECT max("nm_position") FROM "sh""elf"."loans");

-- counts as inserted
INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_change", "nm_changed_at", "nm_position", "nm_run") SELECT "id", "n""ote", "at", "nm_change", "nm_changed_at", "nm_position", "nm_run" FROM stage;

