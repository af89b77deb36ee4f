DROP TABLE records.signature;
