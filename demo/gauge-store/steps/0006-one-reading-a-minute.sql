-- It fails where a logger has stored a minute twice.
CREATE UNIQUE INDEX reading_once ON reading (gauge_code, at);
