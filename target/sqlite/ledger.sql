CREATE TABLE vorrang_ledger (
    seq         INTEGER NOT NULL PRIMARY KEY,
    at          TEXT    NOT NULL,
    action      TEXT    NOT NULL,
    step        TEXT    NOT NULL,
    slug        TEXT    NOT NULL,
    checksum    TEXT    NOT NULL,
    deployment  TEXT    NOT NULL,
    actor       TEXT    NOT NULL,
    duration_ms INTEGER NOT NULL,
    detail      TEXT    NOT NULL,
    prev_hash   TEXT    NOT NULL,
    hash        TEXT    NOT NULL UNIQUE
);
CREATE TRIGGER vorrang_ledger_no_update BEFORE UPDATE ON vorrang_ledger BEGIN
    SELECT RAISE(ABORT, 'the ledger is append-only: UPDATE is refused');
END;
CREATE TRIGGER vorrang_ledger_no_delete BEFORE DELETE ON vorrang_ledger BEGIN
    SELECT RAISE(ABORT, 'the ledger is append-only: DELETE is refused');
END;
CREATE TRIGGER vorrang_ledger_no_replace BEFORE INSERT ON vorrang_ledger WHEN NEW.seq <= (SELECT max(seq) FROM vorrang_ledger) BEGIN
    SELECT RAISE(ABORT, 'the ledger is append-only: an entry cannot be replaced');
END;
