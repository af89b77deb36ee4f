ALTER TABLE records.deployment DROP COLUMN planned, DROP COLUMN outline;
