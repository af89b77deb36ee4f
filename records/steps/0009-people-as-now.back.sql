ALTER TABLE records.person DROP COLUMN groups_at;
