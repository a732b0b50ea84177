-- counts as nothing
TRUNCATE "sh""elf"."loans";

-- counts as inserted
INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_run") SELECT "id", "n""ote", "at", "nm_run" FROM stage;

