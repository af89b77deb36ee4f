/*---
mode: autocommit
---*/
-- The busiest table: built without locking out those who write to it.
CREATE INDEX CONCURRENTLY port_call_arrival ON harbour.port_call (arrived_at, berth_id);
