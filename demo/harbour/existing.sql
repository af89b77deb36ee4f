-- The harbour's production database as it was before anybody kept scripts: what
-- steps 1 to 5 make, made by hand, with some 100,000 port calls. In 37 of them
-- the two times are the wrong way round.
CREATE SCHEMA harbour;

CREATE TABLE harbour.vessel (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    imo      text          NOT NULL UNIQUE CHECK (imo ~ '^[0-9]{7}$'),
    name     text          NOT NULL,
    flag     char(2)       NOT NULL,
    length_m numeric(6, 2) NOT NULL CHECK (length_m > 0),
    depth    numeric(5, 2)
);
CREATE TABLE harbour.quay (code text PRIMARY KEY, name text NOT NULL);
CREATE TABLE harbour.berth (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    quay         text          NOT NULL REFERENCES harbour.quay,
    number       int           NOT NULL,
    max_length_m numeric(6, 2) NOT NULL,
    max_depth_m  numeric(5, 2) NOT NULL,
    UNIQUE (quay, number)
);
CREATE TABLE harbour.port_call (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    vessel_id   bigint      NOT NULL REFERENCES harbour.vessel,
    berth_id    bigint      NOT NULL REFERENCES harbour.berth,
    arrived_at  timestamptz NOT NULL,
    departed_at timestamptz,
    dues_eur    numeric(10, 2)
);
CREATE INDEX port_call_vessel ON harbour.port_call (vessel_id);
CREATE TABLE harbour.pilot (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    badge   text NOT NULL UNIQUE,
    name    text NOT NULL,
    on_duty boolean NOT NULL DEFAULT false
);
CREATE TABLE harbour.pilotage (
    port_call_id bigint NOT NULL REFERENCES harbour.port_call,
    pilot_id     bigint NOT NULL REFERENCES harbour.pilot,
    direction    text   NOT NULL CHECK (direction IN ('in', 'out')),
    PRIMARY KEY (port_call_id, direction)
);

INSERT INTO harbour.quay VALUES ('N', 'North mole'), ('E', 'East quay'), ('F', 'Fish quay; ice house');
INSERT INTO harbour.berth (quay, number, max_length_m, max_depth_m) VALUES
    ('N', 1, 240, 12.5), ('N', 2, 240, 12.5), ('N', 3, 180, 10), ('E', 1, 160, 8.5),
    ('E', 2, 160, 8.5), ('E', 3, 120, 7), ('F', 1, 60, 4.5), ('F', 2, 45, 4);
INSERT INTO harbour.vessel (imo, name, flag, length_m, depth)
SELECT (9000000 + n)::text, 'Vessel ' || n, (ARRAY['NO', 'SE', 'DK', 'FI', 'NL'])[1 + n % 5], 40 + n % 180, 3 + (n % 80) / 10.0
FROM generate_series(1, 2000) n;
INSERT INTO harbour.port_call (vessel_id, berth_id, arrived_at, departed_at, dues_eur)
SELECT 1 + n % 2000, 1 + n % 8, t, t + CASE WHEN n % 2703 = 0 THEN interval '-5 hours' ELSE interval '1 hour' * (6 + n % 60) END, 100 + n % 900
FROM generate_series(1, 100000) n, LATERAL (SELECT timestamptz '2020-01-01 00:00Z' + interval '31 minutes' * n AS t) x;
INSERT INTO harbour.pilot (badge, name) SELECT 'P' || lpad(n::text, 3, '0'), 'Pilot ' || n FROM generate_series(1, 24) n;
ANALYZE harbour.vessel, harbour.port_call;
