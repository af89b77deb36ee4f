CREATE OR REPLACE FUNCTION records.audit_is_kept() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'UPDATE' AND OLD.result IS NULL AND NEW.id = OLD.id AND NEW.at = OLD.at AND NEW.actor = OLD.actor AND NEW.operation = OLD.operation THEN
        RETURN NEW; -- the answer, once
    END IF;
    RAISE EXCEPTION 'the audit is only ever added to';
END $$;
