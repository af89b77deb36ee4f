DROP TABLE records.usage;
