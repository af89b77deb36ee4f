SELECT count(*) >= 3 FROM pilot;
