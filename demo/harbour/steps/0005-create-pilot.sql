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
