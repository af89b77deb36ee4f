DROP VIEW newest_reading;
