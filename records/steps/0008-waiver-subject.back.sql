ALTER TABLE records.waiver DROP COLUMN subject;
