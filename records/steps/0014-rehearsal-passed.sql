-- Whether a rehearsal passed stands in its body.
ALTER TABLE records.rehearsal DROP COLUMN passed;
