-- counts as nothing
DELETE FROM stage AS s USING "sh""elf"."loans" AS t WHERE t."id" = s."id" AND (t."nm_from" >= s."nm_from" OR t."nm_until" >= s."nm_from");

-- counts as nothing
DELETE FROM stage AS s USING "sh""elf"."loans" AS t WHERE t."id" = s."id" AND t."nm_current" AND s.noemata_order = 0 AND NOT s.noemata_gone AND NOT (t."n""ote" IS DISTINCT FROM s."n""ote" OR t."at" IS DISTINCT FROM s."at");

-- counts as deleted
UPDATE "sh""elf"."loans" AS t SET "nm_until" = s."nm_from", "nm_current" = false FROM stage AS s WHERE t."id" = s."id" AND t."nm_current" AND s.noemata_order = 0 AND s.noemata_gone;

-- counts as rewritten
UPDATE "sh""elf"."loans" AS t SET "nm_until" = s."nm_from", "nm_current" = false FROM stage AS s WHERE t."id" = s."id" AND t."nm_current" AND s.noemata_order = 0 AND NOT s.noemata_gone;

-- counts as inserted
INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_from", "nm_until", "nm_current", "nm_position", "nm_run") SELECT "id", "n""ote", "at", "nm_from", "nm_until", "nm_current", "nm_position", "nm_run" FROM stage WHERE NOT noemata_gone;

