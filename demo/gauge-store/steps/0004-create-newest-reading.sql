CREATE VIEW newest_reading AS
SELECT gauge_code, max(at) AS at, level_cm FROM reading GROUP BY gauge_code;
