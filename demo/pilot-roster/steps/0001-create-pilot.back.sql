DROP TABLE pilot;
