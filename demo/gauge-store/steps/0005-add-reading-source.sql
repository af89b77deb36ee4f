-- Readings that a person typed in are told from those of the sensor.
ALTER TABLE reading ADD COLUMN source TEXT NOT NULL DEFAULT 'sensor' CHECK (source IN ('sensor', 'person'));

CREATE TRIGGER reading_stays BEFORE UPDATE OF level_cm ON reading WHEN OLD.source = 'sensor' BEGIN
    SELECT RAISE(ABORT, 'a reading of the sensor stays as it is');
END;
