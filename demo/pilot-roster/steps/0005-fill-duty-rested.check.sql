SELECT count(*) = 0 FROM duty WHERE rested IS NULL;
