CREATE FUNCTION harbour.dues(length_m numeric, hours numeric) RETURNS numeric
    LANGUAGE sql IMMUTABLE
BEGIN ATOMIC
    SELECT CASE WHEN length_m > 150 THEN 4.80 ELSE 3.20 END * length_m * ceil(hours / 24);
END;

CREATE VIEW harbour.berth_occupancy AS
SELECT b.quay, b.number, count(c.id) AS port_calls,
       max(c.arrived_at) FILTER (WHERE c.departed_at IS NULL) AS occupied_since
FROM harbour.berth b
LEFT JOIN harbour.port_call c ON c.berth_id = b.id
GROUP BY b.id;
