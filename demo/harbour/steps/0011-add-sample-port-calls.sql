/*---
only: [development, staging]
---*/
INSERT INTO harbour.vessel (imo, name, flag, length_m, draught_m) VALUES
    ('9100011', 'Havmåke', 'NO', 88.4, 5.1),
    ('9100023', 'Grå Ternen', 'DK', 142.0, 7.4),
    ('9100035', 'Skumring', 'SE', 61.2, 4.2);

INSERT INTO harbour.port_call (vessel_id, berth_id, arrived_at, departed_at)
SELECT v.id, b.id, now() - interval '3 days', now() - interval '1 day'
FROM harbour.vessel v JOIN harbour.berth b ON b.number = 1;

DO $$ BEGIN RAISE NOTICE 'sample data: % port calls', (SELECT count(*) FROM harbour.port_call); END $$;
