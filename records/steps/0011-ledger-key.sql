-- The secret by which this service knows the ledger entries that it wrote. It is made when the records are first opened.
CREATE TABLE records.ledger_key (
    only_one boolean     PRIMARY KEY DEFAULT true CHECK (only_one),
    key      bytea       NOT NULL CHECK (octet_length(key) = 32),
    made_at  timestamptz NOT NULL DEFAULT now()
);
