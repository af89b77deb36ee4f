DROP INDEX records.event_effect;
DROP TABLE records.drift;
DROP TABLE records.snapshot;
DROP TABLE records.schema;
