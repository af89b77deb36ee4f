DROP TABLE records.rehearsal;
