ALTER TABLE dues.invoice ADD COLUMN paid_at timestamptz;
