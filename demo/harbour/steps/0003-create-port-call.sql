CREATE TABLE harbour.port_call (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    vessel_id   bigint      NOT NULL REFERENCES harbour.vessel,
    berth_id    bigint      NOT NULL REFERENCES harbour.berth,
    arrived_at  timestamptz NOT NULL,
    departed_at timestamptz,
    dues_eur    numeric(10, 2)
);
CREATE INDEX port_call_vessel ON harbour.port_call (vessel_id);
