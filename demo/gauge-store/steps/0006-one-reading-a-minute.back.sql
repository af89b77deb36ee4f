DROP INDEX reading_once;
