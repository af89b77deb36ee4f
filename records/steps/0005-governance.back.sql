ALTER TABLE records.deployment DROP COLUMN digest;
DROP TABLE records.appointment;
DROP TABLE records.asking;
DROP TABLE records.waiver;
DROP TABLE records.approval;
