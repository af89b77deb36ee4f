CREATE SCHEMA harbour;

CREATE TABLE harbour.vessel (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    imo      text          NOT NULL UNIQUE CHECK (imo ~ '^[0-9]{7}$'),
    name     text          NOT NULL,
    flag     char(2)       NOT NULL,
    length_m numeric(6, 2) NOT NULL CHECK (length_m > 0),
    depth    numeric(5, 2)
);
COMMENT ON COLUMN harbour.vessel.depth IS 'Draught in metres. Badly named: see steps 7 to 10.';
