-- It fails where two pilots stand in the roster for one watch.
ALTER TABLE duty ADD UNIQUE INDEX duty_once (day, watch);
