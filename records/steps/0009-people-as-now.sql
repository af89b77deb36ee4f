-- When a person's groups were asked last: what they gave lapses some time after.
ALTER TABLE records.person ADD COLUMN groups_at timestamptz;
UPDATE records.person SET groups_at = seen_at WHERE subject IS NOT NULL;
COMMENT ON COLUMN records.person.groups_at IS 'when the groups were asked last';
