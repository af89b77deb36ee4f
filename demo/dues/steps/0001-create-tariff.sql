CREATE SCHEMA dues;
CREATE TABLE dues.tariff (
    kind        text PRIMARY KEY,
    per_tonne_c integer NOT NULL CHECK (per_tonne_c > 0)
);
INSERT INTO dues.tariff VALUES ('cargo', 42), ('fishing', 17), ('pleasure', 65);
