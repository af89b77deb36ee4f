DROP TABLE records.ledger_key;
