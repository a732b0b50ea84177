-- counts as deleted
DELETE FROM "sh""elf"."loans" AS t USING stage AS s WHERE s.noemata_gone AND t."id" = s."id";

-- counts as inserted
INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_changed_at", "nm_run") SELECT s."id", s."n""ote", s."at", s."nm_changed_at", s."nm_run" FROM stage AS s WHERE NOT s.noemata_gone;

