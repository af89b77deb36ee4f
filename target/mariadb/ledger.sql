CREATE TABLE IF NOT EXISTS vorrang_ledger (
    seq         BIGINT       NOT NULL PRIMARY KEY,
    at          DATETIME(6)  NOT NULL,
    action      VARCHAR(40)  NOT NULL,
    step        VARCHAR(255) NOT NULL,
    slug        VARCHAR(255) NOT NULL,
    checksum    VARCHAR(80)  NOT NULL,
    deployment  VARCHAR(255) NOT NULL,
    actor       TEXT         NOT NULL,
    duration_ms BIGINT       NOT NULL,
    detail      LONGTEXT     NOT NULL,
    prev_hash   CHAR(64)     NOT NULL,
    hash        CHAR(64)     NOT NULL UNIQUE
) ENGINE = InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
CREATE TRIGGER IF NOT EXISTS vorrang_ledger_no_update BEFORE UPDATE ON vorrang_ledger FOR EACH ROW
    SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'the ledger is append-only: UPDATE is refused';
CREATE TRIGGER IF NOT EXISTS vorrang_ledger_no_delete BEFORE DELETE ON vorrang_ledger FOR EACH ROW
    SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'the ledger is append-only: DELETE is refused';
