CREATE TABLE dues.waiver (
    invoice integer PRIMARY KEY REFERENCES dues.invoice,
    reason  text NOT NULL
);
