-- counts as nothing
UPDATE stage AS s SET "nm_from" = t."nm_from" + INTERVAL '1 microsecond' FROM "sh""elf"."loans" AS t WHERE t."id" = s."id" AND t."nm_current" AND s."nm_from" <= t."nm_from" AND (s.noemata_gone OR t."n""ote" IS DISTINCT FROM s."n""ote" OR t."at" IS DISTINCT FROM s."at");

-- counts as nothing
UPDATE stage AS s SET "nm_from" = l.ended FROM (SELECT "id", max("nm_until") AS ended FROM "sh""elf"."loans" WHERE "nm_until" IS NOT NULL GROUP BY "id") AS l WHERE l."id" = s."id" AND s."nm_from" < l.ended;

-- counts as nothing
DELETE FROM stage AS s USING "sh""elf"."loans" AS t WHERE t."id" = s."id" AND t."nm_current" AND s.noemata_order = 0 AND NOT s.noemata_gone AND NOT (t."n""ote" IS DISTINCT FROM s."n""ote" OR t."at" IS DISTINCT FROM s."at");

-- counts as deleted
UPDATE "sh""elf"."loans" AS t SET "nm_until" = s."nm_from", "nm_current" = false FROM stage AS s WHERE t."id" = s."id" AND t."nm_current" AND s.noemata_order = 0 AND s.noemata_gone;

-- counts as rewritten
UPDATE "sh""elf"."loans" AS t SET "nm_until" = s."nm_from", "nm_current" = false FROM stage AS s WHERE t."id" = s."id" AND t."nm_current" AND s.noemata_order = 0 AND NOT s.noemata_gone;

-- counts as inserted
INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_from", "nm_until", "nm_current", "nm_position", "nm_run") SELECT "id", "n""ote", "at", "nm_from", "nm_until", "nm_current", "nm_position", "nm_run" FROM stage WHERE NOT noemata_gone;

