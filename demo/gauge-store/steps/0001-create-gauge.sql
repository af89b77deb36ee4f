-- The gauges that the logger serves.
CREATE TABLE gauge (
    code     TEXT    NOT NULL PRIMARY KEY,
    site     TEXT    NOT NULL,
    datum_cm INTEGER NOT NULL DEFAULT 0
) STRICT;
