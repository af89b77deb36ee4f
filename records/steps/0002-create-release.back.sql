ALTER TABLE records.deployment DROP COLUMN release;
DROP TABLE records.release;
