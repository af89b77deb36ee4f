DROP TRIGGER keep_draught ON harbour.vessel;
DROP FUNCTION harbour.keep_draught();
ALTER TABLE harbour.vessel DROP COLUMN draught_m;
