-- Whether the pilot had eleven hours of rest before the watch.
ALTER TABLE duty ADD COLUMN rested BOOLEAN NULL;
