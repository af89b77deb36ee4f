-- One invoice for each stay of a vessel.
CREATE TABLE dues.invoice (
    id       integer PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    vessel   text NOT NULL,
    kind     text NOT NULL REFERENCES dues.tariff,
    tonnes   integer NOT NULL CHECK (tonnes > 0),
    due_on   date NOT NULL,
    amount_c integer
);
INSERT INTO dues.invoice (vessel, kind, tonnes, due_on)
SELECT 'Vessel ' || n % 140, (ARRAY['cargo', 'fishing', 'pleasure'])[1 + n % 3], 20 + n % 900, date '2026-01-01' + n % 300
FROM generate_series(1, 6000) n;
