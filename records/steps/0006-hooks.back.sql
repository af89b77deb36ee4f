DROP TABLE records.delivery;
DROP TABLE records.hook;
