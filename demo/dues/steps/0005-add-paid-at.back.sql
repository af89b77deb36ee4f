ALTER TABLE dues.invoice DROP COLUMN paid_at;
