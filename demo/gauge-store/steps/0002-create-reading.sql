-- One row a minute and gauge, until the store is collected.
CREATE TABLE reading (
    id         INTEGER PRIMARY KEY,
    gauge_code TEXT    NOT NULL REFERENCES gauge (code),
    at         TEXT    NOT NULL,
    level_cm   INTEGER NOT NULL CHECK (level_cm BETWEEN -500 AND 1500)
) STRICT;

CREATE INDEX reading_at ON reading (gauge_code, at);
