DROP TABLE records.scratch;
