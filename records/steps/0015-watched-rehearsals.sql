-- A rehearsal is kept from its beginning, and says what became of it.
ALTER TABLE records.rehearsal
    ADD COLUMN state text NOT NULL DEFAULT 'ended' CHECK (state IN ('running', 'ended', 'broken off', 'cancelled', 'interrupted')),
    ADD COLUMN message text NOT NULL DEFAULT '',
    ADD COLUMN rows integer NOT NULL DEFAULT 0,
    ADD COLUMN ended_at timestamptz;
COMMENT ON COLUMN records.rehearsal.message IS 'why it was broken off';
COMMENT ON COLUMN records.rehearsal.rows IS 'how many of each table were asked for';
UPDATE records.rehearsal SET ended_at = at;
