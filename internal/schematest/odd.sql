-- What PostgreSQL's documentation shows under CREATE, in an odd harbour.
CREATE SCHEMA harbour; COMMENT ON SCHEMA harbour IS 'it''s the harbour';
CREATE SCHEMA "Old ""Port"".x";
CREATE EXTENSION hstore SCHEMA "Old ""Port"".x";
CREATE COLLATION harbour.plain (LC_COLLATE = 'C', LC_CTYPE = 'C');
CREATE TYPE harbour.kind AS ENUM ('tug', 'it''s a "ferry"', 'pilot, fast');
CREATE TYPE harbour.place AS (lat numeric(9,6), lon numeric(9,6), "the note" text COLLATE "C");
CREATE TYPE harbour.spot AS (at harbour.place, since timestamp(3) with time zone);
CREATE DOMAIN harbour.mmsi AS text COLLATE "C" DEFAULT '000000000' NOT NULL CONSTRAINT digits CHECK (VALUE ~ '^[0-9]{9}$');
CREATE DOMAIN harbour.own AS harbour.mmsi CHECK (VALUE <> '999999999'); COMMENT ON DOMAIN harbour.own IS 'ours';
CREATE DOMAIN harbour.marks AS int[] CHECK (array_length(VALUE, 1) < 5);
CREATE FUNCTION harbour.apart(numeric, numeric) RETURNS double precision LANGUAGE sql IMMUTABLE AS 'SELECT ($1 - $2)::double precision';
CREATE TYPE harbour.tides AS RANGE (SUBTYPE = numeric, SUBTYPE_DIFF = harbour.apart, MULTIRANGE_TYPE_NAME = harbour.many_tides);
CREATE TYPE harbour.names AS RANGE (SUBTYPE = text, COLLATION = "C");
CREATE SEQUENCE harbour.berths AS smallint START 5 INCREMENT -2 MINVALUE -100 MAXVALUE 100 CACHE 3 CYCLE;
CREATE UNLOGGED SEQUENCE harbour.quick;
CREATE FUNCTION harbour.next() RETURNS bigint LANGUAGE plpgsql AS 'BEGIN RETURN nextval(''harbour.quick''); END';
CREATE FUNCTION harbour.deep(x numeric, OUT a numeric, OUT b text) LANGUAGE sql IMMUTABLE PARALLEL SAFE COST 5 AS $$ SELECT x * 2, 'deep' $$;
CREATE FUNCTION harbour.loud(t text) RETURNS text LANGUAGE sql IMMUTABLE STRICT LEAKPROOF RETURN upper(t) || '!';
CREATE FUNCTION harbour.rows_of(n int DEFAULT 3, VARIADIC rest text[] DEFAULT '{}') RETURNS TABLE (id int, word text) LANGUAGE plpgsql STABLE ROWS 7 SET work_mem = '8MB' SET search_path = harbour, pg_temp SECURITY DEFINER AS 'BEGIN RETURN QUERY SELECT 1, ''x''; END';
CREATE FUNCTION harbour.any_of(anyelement, anyarray) RETURNS anyelement LANGUAGE sql AS 'SELECT $1';
CREATE PROCEDURE harbour.moor(INOUT a int, b text DEFAULT 'b;c') LANGUAGE plpgsql AS 'BEGIN a := a + 1; COMMIT; END';
CREATE AGGREGATE harbour.longest(text) (SFUNC = textcat, STYPE = text, INITCOND = '');
CREATE AGGREGATE harbour.total(numeric) (SFUNC = numeric_add, STYPE = numeric, INITCOND = '0', COMBINEFUNC = numeric_add, MSFUNC = numeric_add, MINVFUNC = numeric_sub, MSTYPE = numeric, MINITCOND = '0', PARALLEL = SAFE);
CREATE AGGREGATE harbour.all_of(*) (SFUNC = int8inc, STYPE = int8, INITCOND = '0');
CREATE AGGREGATE harbour.middle(double precision ORDER BY anyelement) (SFUNC = ordered_set_transition, STYPE = internal, FINALFUNC = percentile_disc_final, FINALFUNC_EXTRA);
CREATE AGGREGATE harbour.rank_of(VARIADIC "any" ORDER BY VARIADIC "any") (SFUNC = ordered_set_transition_multi, STYPE = internal, FINALFUNC = rank_final, FINALFUNC_EXTRA, HYPOTHETICAL);
CREATE TABLE harbour.vessel (
    id int GENERATED ALWAYS AS IDENTITY (START 100 INCREMENT 10 CACHE 5) PRIMARY KEY WITH (fillfactor = 80),
    "Name, full" text COLLATE harbour.plain NOT NULL DEFAULT 'no ''name''',
    kind harbour.kind DEFAULT 'tug', own harbour.own, marks harbour.marks, spot harbour.spot, tides harbour.many_tides,
    draught numeric(5,2) CONSTRAINT deep CHECK (draught > 0), hull text, loud text GENERATED ALWAYS AS (harbour.loud("Name, full")) STORED,
    counter bigint DEFAULT harbour.next(), bits bit varying(8) DEFAULT B'101', flags "char", gone interval day to second(2), "order" int,
    CONSTRAINT "the ""name""" UNIQUE NULLS NOT DISTINCT ("Name, full") INCLUDE (hull), UNIQUE ("order") DEFERRABLE INITIALLY DEFERRED
) WITH (fillfactor = 90, toast.autovacuum_enabled = false);
ALTER TABLE harbour.vessel ALTER hull SET STORAGE EXTERNAL, ALTER hull SET STATISTICS 500, ALTER draught SET (n_distinct = -0.5);
ALTER TABLE harbour.vessel ADD CONSTRAINT later CHECK ("order" < 9) NOT VALID, REPLICA IDENTITY FULL;
COMMENT ON TABLE harbour.vessel IS E'a\ttab, a \\ and
a line'; COMMENT ON COLUMN harbour.vessel."Name, full" IS 'as on the bow'; COMMENT ON CONSTRAINT deep ON harbour.vessel IS 'how deep';
CREATE TABLE harbour.leaves (id bigserial PRIMARY KEY, vessel int REFERENCES harbour.vessel ON DELETE SET NULL ON UPDATE CASCADE DEFERRABLE, arrives int);
CREATE TABLE harbour.arrives (id bigserial PRIMARY KEY, leaves bigint REFERENCES harbour.leaves MATCH FULL, during tstzrange, EXCLUDE USING gist (during WITH &&) WHERE (id > 7));
ALTER TABLE harbour.leaves ADD FOREIGN KEY (arrives) REFERENCES harbour.arrives NOT VALID; -- a circle
CREATE TABLE harbour.barge (pull int NOT NULL, draught numeric(5,2) DEFAULT 4, CHECK (pull > 1) NO INHERIT) INHERITS (harbour.vessel);
CREATE TABLE harbour.towed (CHECK (pull > 2)) INHERITS (harbour.barge);
CREATE TABLE harbour.placed OF harbour.place (lat WITH OPTIONS NOT NULL DEFAULT 1, PRIMARY KEY (lat, lon));
CREATE UNLOGGED TABLE "Old ""Port"".x"."The Quay" ("a b" int DEFAULT 7, "c.d" "Old ""Port"".x".hstore);
CREATE TABLE harbour.call (id int NOT NULL, at date NOT NULL, what text, vessel int REFERENCES harbour.vessel, PRIMARY KEY (id, at), CHECK (id > 0)) PARTITION BY RANGE (at);
CREATE TABLE harbour.call_year PARTITION OF harbour.call (CHECK (what <> 'x')) FOR VALUES FROM ('2026-01-01') TO ('2027-01-01') PARTITION BY LIST (id);
CREATE TABLE harbour.call_year_a PARTITION OF harbour.call_year FOR VALUES IN (1, 2) WITH (fillfactor = 50);
CREATE TABLE harbour.other_order (what text, vessel int, at date NOT NULL, id int NOT NULL, CHECK (id > 0));
ALTER TABLE harbour.call ADD CONSTRAINT call_id_check2 CHECK (id > 0); ALTER TABLE harbour.other_order ADD CONSTRAINT call_id_check CHECK (id > 0), ADD CONSTRAINT call_id_check2 CHECK (id > 0);
ALTER TABLE harbour.call ATTACH PARTITION harbour.other_order DEFAULT;
CREATE INDEX call_what ON harbour.call (what); CREATE UNIQUE INDEX call_both ON harbour.call (at, id);
CREATE INDEX vessel_odd ON harbour.vessel USING btree (lower("Name, full") text_pattern_ops DESC NULLS LAST, (draught + 1)) INCLUDE (hull) WITH (fillfactor = 70) WHERE draught > 1;
ALTER INDEX harbour.vessel_odd ALTER COLUMN 2 SET STATISTICS 99; COMMENT ON INDEX harbour.vessel_odd IS 'odd';
CREATE INDEX vessel_tides ON harbour.arrives USING gist (during); CREATE INDEX ON harbour.vessel USING brin (id) WITH (pages_per_range = 8); CREATE INDEX ON harbour.vessel USING hash (hull);
CREATE INDEX vessel_c ON harbour.vessel (hull COLLATE "C"); CREATE UNIQUE INDEX leaves_key ON harbour.leaves (id); ALTER TABLE harbour.leaves REPLICA IDENTITY USING INDEX leaves_key; CLUSTER harbour.leaves USING leaves_pkey;
CREATE VIEW harbour.named (who, what) WITH (security_barrier, check_option = cascaded) AS SELECT "Name, full", kind FROM harbour.vessel WHERE id > 3;
ALTER VIEW harbour.named ALTER COLUMN who SET DEFAULT 'nobody'; COMMENT ON VIEW harbour.named IS 'a view'; COMMENT ON COLUMN harbour.named.who IS 'a name';
CREATE RECURSIVE VIEW harbour.counting (n) AS VALUES (1) UNION ALL SELECT n + 1 FROM counting WHERE n < 10;
CREATE VIEW harbour.grouped AS SELECT l.id, l.vessel, count(*) FROM harbour.leaves l GROUP BY l.id;
CREATE MATERIALIZED VIEW harbour.counted WITH (fillfactor = 60) AS SELECT who, count(*) AS many FROM harbour.named GROUP BY who WITH NO DATA;
CREATE UNIQUE INDEX counted_who ON harbour.counted (who);
CREATE FUNCTION harbour.of_view(harbour.named) RETURNS text LANGUAGE sql STABLE AS 'SELECT $1.who';
CREATE VIEW harbour.circle AS SELECT who FROM harbour.named;
CREATE FUNCTION harbour.in_circle() RETURNS SETOF harbour.circle LANGUAGE sql AS 'SELECT * FROM harbour.circle';
CREATE OR REPLACE VIEW harbour.circle AS SELECT who FROM harbour.named UNION SELECT who FROM harbour.in_circle(); -- a circle
CREATE FUNCTION harbour.atomic(n int) RETURNS int LANGUAGE sql BEGIN ATOMIC SELECT count(*)::int FROM harbour.grouped WHERE id > n; END;
CREATE FUNCTION harbour.touch() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END';
CREATE TRIGGER touched BEFORE INSERT OR UPDATE OF hull, draught ON harbour.vessel FOR EACH ROW WHEN (NEW.draught > 1) EXECUTE FUNCTION harbour.touch('a', 'it''s');
CREATE TRIGGER "all of it" AFTER UPDATE ON harbour.leaves REFERENCING OLD TABLE AS was NEW TABLE AS is_now FOR EACH STATEMENT EXECUTE FUNCTION harbour.touch();
CREATE CONSTRAINT TRIGGER checked AFTER INSERT ON harbour.leaves FROM harbour.vessel DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION harbour.touch();
CREATE TRIGGER of_parts BEFORE INSERT ON harbour.call FOR EACH ROW EXECUTE FUNCTION harbour.touch();
CREATE TRIGGER instead INSTEAD OF INSERT ON harbour.grouped FOR EACH ROW EXECUTE FUNCTION harbour.touch();
ALTER TABLE harbour.vessel DISABLE TRIGGER touched; ALTER TABLE harbour.leaves ENABLE ALWAYS TRIGGER checked; COMMENT ON TRIGGER checked ON harbour.leaves IS 'always';
CREATE RULE quiet AS ON DELETE TO harbour.vessel WHERE OLD.id = 1 DO INSTEAD (UPDATE harbour.leaves SET vessel = NULL; INSERT INTO harbour.barge (pull) VALUES (3));
CREATE RULE renamed AS ON UPDATE TO harbour.named DO ALSO NOTHING; COMMENT ON RULE renamed ON harbour.named IS 'a rule';
ALTER TABLE harbour.vessel ENABLE ROW LEVEL SECURITY; ALTER TABLE harbour.leaves FORCE ROW LEVEL SECURITY;
CREATE POLICY own ON harbour.vessel AS RESTRICTIVE FOR SELECT TO CURRENT_USER, PUBLIC USING ("Name, full" = current_user); CREATE POLICY put ON harbour.vessel FOR INSERT WITH CHECK (EXISTS (SELECT FROM harbour.leaves)); COMMENT ON POLICY own ON harbour.vessel IS 'own';
CREATE STATISTICS harbour.together (dependencies, mcv) ON kind, draught, (lower(hull)) FROM harbour.vessel; ALTER STATISTICS harbour.together SET STATISTICS 50;
CREATE FOREIGN DATA WRAPPER nothing OPTIONS (a 'b''c'); CREATE SERVER far TYPE 'x' VERSION '2' FOREIGN DATA WRAPPER nothing OPTIONS (host 'h');
CREATE FOREIGN TABLE harbour.far (id int OPTIONS (col 'x') NOT NULL, t text DEFAULT 'x', CHECK (id > 1)) SERVER far OPTIONS (name 'y'); COMMENT ON FOREIGN TABLE harbour.far IS 'far away';
CREATE PUBLICATION ships FOR TABLE ONLY harbour.vessel ("Name, full", id) WHERE (id > 7), harbour.leaves WITH (publish = 'insert, update', publish_via_partition_root);
CREATE PUBLICATION everything FOR ALL TABLES; CREATE PUBLICATION old FOR TABLES IN SCHEMA "Old ""Port"".x"; COMMENT ON PUBLICATION old IS 'old';
CREATE FUNCTION harbour.noticed() RETURNS event_trigger LANGUAGE plpgsql AS 'BEGIN END';
CREATE EVENT TRIGGER noticing ON ddl_command_end WHEN TAG IN ('CREATE TABLE', 'DROP TABLE') EXECUTE FUNCTION harbour.noticed(); ALTER EVENT TRIGGER noticing DISABLE;
