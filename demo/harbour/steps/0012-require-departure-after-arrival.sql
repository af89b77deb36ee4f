ALTER TABLE harbour.port_call
    ADD CONSTRAINT departure_after_arrival CHECK (departed_at > arrived_at);
