-- counts as nothing
DELETE FROM stage AS s USING "sh""elf"."loans" AS t WHERE t."id" = s."id" AND t."nm_changed_at" >= s."nm_changed_at";

-- counts as nothing
UPDATE stage AS s SET "id" = CASE WHEN substr(s.noemata_unknown, 1, 1) = '1' THEN t."id" ELSE s."id" END, "n""ote" = CASE WHEN substr(s.noemata_unknown, 2, 1) = '1' THEN t."n""ote" ELSE s."n""ote" END, "at" = CASE WHEN substr(s.noemata_unknown, 3, 1) = '1' THEN t."at" ELSE s."at" END, noemata_unknown = NULL FROM "sh""elf"."loans" AS t WHERE s.noemata_unknown IS NOT NULL AND t."id" = s.noemata_base_0 AND t."nm_changed_at" < s."nm_changed_at";

-- counts as baseless
SELECT count(*) FROM stage WHERE noemata_unknown IS NOT NULL;

-- counts as updated
UPDATE "sh""elf"."loans" AS t SET "id" = s."id", "n""ote" = s."n""ote", "at" = s."at", "nm_changed_at" = s."nm_changed_at", "nm_run" = s."nm_run" FROM stage AS s WHERE NOT s.noemata_gone AND t."id" = s."id" AND (t."n""ote" IS DISTINCT FROM s."n""ote" OR t."at" IS DISTINCT FROM s."at");

-- counts as inserted, unless the step before touched all rows
INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_changed_at", "nm_run") SELECT s."id", s."n""ote", s."at", s."nm_changed_at", s."nm_run" FROM stage AS s WHERE NOT s.noemata_gone AND NOT EXISTS (SELECT 1 FROM "sh""elf"."loans" AS t WHERE t."id" = s."id");

