DELETE FROM records.rehearsal WHERE state <> 'ended';
ALTER TABLE records.rehearsal DROP COLUMN state, DROP COLUMN message, DROP COLUMN rows, DROP COLUMN ended_at;
