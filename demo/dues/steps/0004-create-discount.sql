CREATE TABLE dues.discount (
    vessel  text PRIMARY KEY,
    percent integer NOT NULL CHECK (percent BETWEEN 1 AND 50)
);
