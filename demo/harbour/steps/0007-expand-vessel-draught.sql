/*---
phase: expand
lock-timeout: 2s
---*/
-- depth becomes draught_m. Both are kept in step until nobody uses the old one.
ALTER TABLE harbour.vessel ADD COLUMN draught_m numeric(5, 2);

CREATE FUNCTION harbour.keep_draught() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'INSERT' OR NEW.depth IS DISTINCT FROM OLD.depth THEN
        NEW.draught_m := coalesce(NEW.depth, NEW.draught_m);
    END IF;
    NEW.depth := NEW.draught_m;
    RETURN NEW;
END
$$;

CREATE TRIGGER keep_draught BEFORE INSERT OR UPDATE ON harbour.vessel
    FOR EACH ROW EXECUTE FUNCTION harbour.keep_draught();
