DROP TABLE gauge;
