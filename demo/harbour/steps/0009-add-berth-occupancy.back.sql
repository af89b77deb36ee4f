DROP VIEW harbour.berth_occupancy;
DROP FUNCTION harbour.dues(numeric, numeric);
