DROP TABLE records.backup;
DROP TABLE records.freeze;
