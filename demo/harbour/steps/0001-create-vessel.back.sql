DROP TABLE harbour.vessel;
DROP SCHEMA harbour;
