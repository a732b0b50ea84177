-- counts as nothing
UPDATE stage AS s SET "id" = CASE WHEN substr(s.noemata_unknown, 1, 1) = '1' THEN t."id" ELSE s."id" END, "n""ote" = CASE WHEN substr(s.noemata_unknown, 2, 1) = '1' THEN t."n""ote" ELSE s."n""ote" END, "at" = CASE WHEN substr(s.noemata_unknown, 3, 1) = '1' THEN t."at" ELSE s."at" END, noemata_unknown = NULL FROM "sh""elf"."loans" AS t WHERE s.noemata_unknown IS NOT NULL AND t."id" = s.noemata_base_0 AND t."nm_current";

-- counts as baseless
SELECT count(*) FROM stage WHERE noemata_unknown IS NOT NULL;

-- counts as rewritten
UPDATE "sh""elf"."loans" AS t SET "nm_until" = s."nm_from", "nm_current" = false FROM stage AS s WHERE t."id" = s."id" AND t."nm_current" AND NOT s.noemata_gone AND (t."n""ote" IS DISTINCT FROM s."n""ote" OR t."at" IS DISTINCT FROM s."at");

-- counts as inserted, only where the step before touched all rows
INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_from", "nm_until", "nm_current", "nm_position", "nm_run") SELECT "id", "n""ote", "at", "nm_from", "nm_until", "nm_current", "nm_position", "nm_run" FROM stage;

-- counts as inserted, unless the step before touched all rows
INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_from", "nm_until", "nm_current", "nm_position", "nm_run") SELECT s."id", s."n""ote", s."at", s."nm_from", s."nm_until", s."nm_current", s."nm_position", s."nm_run" FROM stage AS s WHERE NOT s.noemata_gone AND NOT EXISTS (SELECT 1 FROM "sh""elf"."loans" AS t WHERE t."id" = s."id" AND t."nm_current");

