ALTER TABLE harbour.vessel ADD COLUMN depth numeric(5, 2);
UPDATE harbour.vessel SET depth = draught_m;

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
