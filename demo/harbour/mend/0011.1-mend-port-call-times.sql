-- Clerks of the old system sometimes entered the two times the wrong way round.
UPDATE harbour.port_call SET arrived_at = departed_at, departed_at = arrived_at WHERE departed_at < arrived_at;
