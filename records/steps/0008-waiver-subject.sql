-- What a waiver was given for: it lapses when that changes.
ALTER TABLE records.waiver ADD COLUMN subject text NOT NULL DEFAULT '';
COMMENT ON COLUMN records.waiver.subject IS 'digest of what the check held for when the waiver was given';
