ALTER TABLE harbour.port_call DROP CONSTRAINT departure_after_arrival;
