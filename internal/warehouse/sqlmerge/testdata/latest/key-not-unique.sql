-- counts as folded
DELETE FROM stage AS s USING (SELECT "id", max(noemata_row) AS last FROM stage GROUP BY "id") AS l WHERE s."id" = l."id" AND s.noemata_row < l.last;

-- counts as updated
UPDATE "sh""elf"."loans" AS t SET "id" = s."id", "n""ote" = s."n""ote", "at" = s."at", "nm_changed_at" = s."nm_changed_at", "nm_run" = s."nm_run" FROM stage AS s WHERE true AND t."id" = s."id" AND (t."n""ote" IS DISTINCT FROM s."n""ote" OR t."at" IS DISTINCT FROM s."at");

-- counts as inserted, unless the step before touched all rows
INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_changed_at", "nm_run") SELECT s."id", s."n""ote", s."at", s."nm_changed_at", s."nm_run" FROM stage AS s WHERE true AND NOT EXISTS (SELECT 1 FROM "sh""elf"."loans" AS t WHERE t."id" = s."id");

