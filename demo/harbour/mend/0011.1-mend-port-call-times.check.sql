SELECT count(*) = 0 FROM harbour.port_call WHERE departed_at <= arrived_at;
