ALTER TABLE records.rehearsal ADD COLUMN passed boolean;
UPDATE records.rehearsal SET passed = (body ->> 'passed')::boolean;
ALTER TABLE records.rehearsal ALTER COLUMN passed SET NOT NULL;
