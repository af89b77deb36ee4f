ALTER TABLE records.deployment DROP COLUMN digest;
DROP TABLE records.scheduled;
DROP TABLE records.asking;
DROP TABLE records.waiver;
DROP TABLE records.approval;
