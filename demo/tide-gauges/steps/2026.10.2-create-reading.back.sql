DROP TABLE reading;
