CREATE TABLE gauge (
    code       text PRIMARY KEY,
    place      text          NOT NULL,
    datum_m    numeric(6, 3) NOT NULL
);
