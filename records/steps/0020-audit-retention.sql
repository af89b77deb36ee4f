-- The audit may be let go of, once it is old: by who says so for a transaction, and never what is younger than 30 days.
CREATE OR REPLACE FUNCTION records.audit_is_kept() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'UPDATE' AND OLD.result IS NULL AND NEW.id = OLD.id AND NEW.at = OLD.at AND NEW.actor = OLD.actor AND NEW.operation = OLD.operation THEN
        RETURN NEW; -- the answer, once
    END IF;
    IF TG_OP = 'DELETE' AND current_setting('vorrang.audit_may_go', true) = 'on' AND OLD.at < now() - interval '30 days' THEN
        RETURN OLD;
    END IF;
    RAISE EXCEPTION 'the audit is only ever added to';
END $$;
