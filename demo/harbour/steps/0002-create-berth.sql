CREATE TABLE harbour.quay (
    code text PRIMARY KEY,
    name text NOT NULL
);

CREATE TABLE harbour.berth (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    quay         text          NOT NULL REFERENCES harbour.quay,
    number       int           NOT NULL,
    max_length_m numeric(6, 2) NOT NULL,
    max_depth_m  numeric(5, 2) NOT NULL,
    UNIQUE (quay, number)
);
