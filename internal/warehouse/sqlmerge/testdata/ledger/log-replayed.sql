-- counts as nothing
DELETE FROM stage WHERE left("nm_position", -11) IN (SELECT left(t."nm_position", -11) FROM "sh""elf"."loans" AS t WHERE t."nm_run" <> 7);

-- counts as inserted
INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_change", "nm_changed_at", "nm_position", "nm_run") SELECT "id", "n""ote", "at", "nm_change", "nm_changed_at", "nm_position", "nm_run" FROM stage;

