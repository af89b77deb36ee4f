CREATE VIEW high_water AS
SELECT gauge, at::date AS day, max(level_m) AS level_m FROM reading GROUP BY gauge, at::date;
