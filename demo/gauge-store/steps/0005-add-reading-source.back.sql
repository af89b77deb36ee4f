DROP TRIGGER reading_stays;
ALTER TABLE reading DROP COLUMN source;
