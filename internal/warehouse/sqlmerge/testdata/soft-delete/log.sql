-- counts as deleted
UPDATE "sh""elf"."loans" AS t SET "nm_deleted_at" = s."nm_deleted_at", "nm_changed_at" = s."nm_changed_at", "nm_run" = s."nm_run" FROM stage AS s WHERE s.noemata_key_only AND t."id" = s."id" AND t."nm_deleted_at" IS NULL;

-- counts as deleted
UPDATE "sh""elf"."loans" AS t SET "id" = s."id", "n""ote" = s."n""ote", "at" = s."at", "nm_deleted_at" = s."nm_deleted_at", "nm_changed_at" = s."nm_changed_at", "nm_run" = s."nm_run" FROM stage AS s WHERE s.noemata_gone AND NOT s.noemata_key_only AND t."id" = s."id" AND (t."n""ote" IS DISTINCT FROM s."n""ote" OR t."at" IS DISTINCT FROM s."at" OR (t."nm_deleted_at" IS NULL) <> (s."nm_deleted_at" IS NULL));

-- counts as deleted, unless the step before touched all rows
INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_deleted_at", "nm_changed_at", "nm_run") SELECT s."id", s."n""ote", s."at", s."nm_deleted_at", s."nm_changed_at", s."nm_run" FROM stage AS s WHERE s.noemata_gone AND NOT s.noemata_key_only AND NOT EXISTS (SELECT 1 FROM "sh""elf"."loans" AS t WHERE t."id" = s."id");

-- counts as updated
UPDATE "sh""elf"."loans" AS t SET "id" = s."id", "n""ote" = s."n""ote", "at" = s."at", "nm_deleted_at" = s."nm_deleted_at", "nm_changed_at" = s."nm_changed_at", "nm_run" = s."nm_run" FROM stage AS s WHERE NOT s.noemata_gone AND t."id" = s."id" AND (t."n""ote" IS DISTINCT FROM s."n""ote" OR t."at" IS DISTINCT FROM s."at" OR (t."nm_deleted_at" IS NULL) <> (s."nm_deleted_at" IS NULL));

-- counts as inserted, unless the step before touched all rows
INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_deleted_at", "nm_changed_at", "nm_run") SELECT s."id", s."n""ote", s."at", s."nm_deleted_at", s."nm_changed_at", s."nm_run" FROM stage AS s WHERE NOT s.noemata_gone AND NOT EXISTS (SELECT 1 FROM "sh""elf"."loans" AS t WHERE t."id" = s."id");

