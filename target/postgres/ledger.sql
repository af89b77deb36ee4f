-- The ledger of a target. docs/ledger.md describes it.
CREATE SCHEMA IF NOT EXISTS vorrang;

CREATE TABLE vorrang.ledger (
    seq         bigint      NOT NULL PRIMARY KEY,
    at          timestamptz NOT NULL,
    action      text        NOT NULL,
    step        text        NOT NULL,
    slug        text        NOT NULL,
    checksum    text        NOT NULL,
    deployment  text        NOT NULL,
    actor       text        NOT NULL,
    duration_ms bigint      NOT NULL,
    detail      json        NOT NULL,
    prev_hash   text        NOT NULL,
    hash        text        NOT NULL UNIQUE
);

COMMENT ON TABLE vorrang.ledger IS 'Vorrang''s history of this database: append-only, hash-chained. See docs/ledger.md.';

CREATE FUNCTION vorrang.refuse_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the ledger is append-only: % is refused', TG_OP
        USING HINT = 'What the ledger says is what happened. Repairs are entries of their own.';
END
$$;

CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON vorrang.ledger
    FOR EACH STATEMENT EXECUTE FUNCTION vorrang.refuse_change();
