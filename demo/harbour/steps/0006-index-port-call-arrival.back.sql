DROP INDEX CONCURRENTLY harbour.port_call_arrival;
