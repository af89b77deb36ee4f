-- autocommit: false
SET check_function_bodies = off;
DROP FUNCTION port."count""50"();
DROP FUNCTION port.count_48(a integer);
DROP FUNCTION port.count_52(VARIADIC a integer[]);
DROP FUNCTION port.count_54(a integer, b text);
DROP VIEW port.look_47;
DROP VIEW port.look_53;
DROP VIEW port.look_51;
DROP VIEW port.look_49;
CREATE SCHEMA "Old ""Port"".x";
ALTER SCHEMA "Old ""Port"".x" OWNER TO vorrang;
CREATE EXTENSION hstore WITH SCHEMA "Old ""Port"".x" VERSION '1.8';
CREATE SCHEMA harbour;
COMMENT ON SCHEMA harbour IS 'it''s the harbour';
ALTER SCHEMA harbour OWNER TO vorrang;
CREATE COLLATION harbour.plain (PROVIDER = libc, LC_COLLATE = 'C', LC_CTYPE = 'C');
ALTER COLLATION harbour.plain OWNER TO vorrang;
CREATE TYPE harbour.kind AS ENUM ('tug', 'it''s a "ferry"', 'pilot, fast');
ALTER TYPE harbour.kind OWNER TO vorrang;
CREATE DOMAIN harbour.marks AS integer[];
ALTER DOMAIN harbour.marks OWNER TO vorrang;
CREATE DOMAIN harbour.mmsi AS text COLLATE "C" DEFAULT '000000000'::text NOT NULL;
ALTER DOMAIN harbour.mmsi OWNER TO vorrang;
CREATE TYPE harbour.names AS RANGE (SUBTYPE = text, COLLATION = "C", MULTIRANGE_TYPE_NAME = harbour.names_multirange);
ALTER TYPE harbour.names OWNER TO vorrang;
CREATE DOMAIN harbour.own AS harbour.mmsi DEFAULT '000000000'::text;
COMMENT ON DOMAIN harbour.own IS 'ours';
ALTER DOMAIN harbour.own OWNER TO vorrang;
CREATE TYPE harbour.place AS (lat numeric(9,6), lon numeric(9,6), "the note" text COLLATE "C");
ALTER TYPE harbour.place OWNER TO vorrang;
CREATE TYPE harbour.spot AS (at harbour.place, since timestamp(3) with time zone);
ALTER TYPE harbour.spot OWNER TO vorrang;
CREATE FOREIGN DATA WRAPPER nothing OPTIONS (a 'b''c');
ALTER FOREIGN DATA WRAPPER nothing OWNER TO vorrang;
CREATE SERVER far TYPE 'x' VERSION '2' FOREIGN DATA WRAPPER nothing OPTIONS (host 'h');
ALTER SERVER far OWNER TO vorrang;
CREATE SEQUENCE harbour.berths AS smallint START 5 INCREMENT -2 MINVALUE -100 MAXVALUE 100 CACHE 3 CYCLE;
ALTER SEQUENCE harbour.berths OWNER TO vorrang;
CREATE UNLOGGED SEQUENCE harbour.quick;
ALTER SEQUENCE harbour.quick OWNER TO vorrang;
CREATE UNLOGGED TABLE "Old ""Port"".x"."The Quay" (
    "a b" integer DEFAULT 7,
    "c.d" "Old ""Port"".x".hstore
);
ALTER TABLE "Old ""Port"".x"."The Quay" OWNER TO vorrang;
CREATE TABLE harbour.arrives (
    id bigint NOT NULL,
    leaves bigint,
    during tstzrange
);
ALTER TABLE harbour.arrives OWNER TO vorrang;
CREATE SEQUENCE harbour.arrives_id_seq;
ALTER SEQUENCE harbour.arrives_id_seq OWNER TO vorrang;
CREATE TABLE harbour.call (
    id integer NOT NULL,
    at date NOT NULL,
    what text,
    vessel integer
) PARTITION BY RANGE (at);
ALTER TABLE harbour.call OWNER TO vorrang;
CREATE TABLE harbour.call_year (
    id integer NOT NULL,
    at date NOT NULL,
    what text,
    vessel integer
) PARTITION BY LIST (id);
ALTER TABLE harbour.call_year OWNER TO vorrang;
CREATE TABLE harbour.call_year_a (
    id integer NOT NULL,
    at date NOT NULL,
    what text,
    vessel integer
) WITH (fillfactor=50);
ALTER TABLE harbour.call_year_a OWNER TO vorrang;
CREATE FOREIGN TABLE harbour.far (
    id integer OPTIONS (col 'x') NOT NULL,
    t text DEFAULT 'x'::text
) SERVER far OPTIONS (name 'y');
COMMENT ON FOREIGN TABLE harbour.far IS 'far away';
ALTER FOREIGN TABLE harbour.far OWNER TO vorrang;
CREATE TABLE harbour.leaves (
    id bigint NOT NULL,
    vessel integer,
    arrives integer
);
ALTER TABLE harbour.leaves DISABLE ROW LEVEL SECURITY, FORCE ROW LEVEL SECURITY;
ALTER TABLE harbour.leaves OWNER TO vorrang;
CREATE SEQUENCE harbour.leaves_id_seq;
ALTER SEQUENCE harbour.leaves_id_seq OWNER TO vorrang;
CREATE TABLE harbour.other_order (
    what text,
    vessel integer,
    at date NOT NULL,
    id integer NOT NULL
);
ALTER TABLE harbour.other_order OWNER TO vorrang;
CREATE TABLE harbour.placed OF harbour.place (
    lat WITH OPTIONS DEFAULT 1 NOT NULL,
    lon WITH OPTIONS NOT NULL
);
ALTER TABLE ONLY harbour.placed ALTER COLUMN lat SET DEFAULT 1;
ALTER TABLE harbour.placed OWNER TO vorrang;
ALTER TABLE ONLY harbour.call ATTACH PARTITION harbour.call_year FOR VALUES FROM ('2026-01-01') TO ('2027-01-01');
ALTER TABLE ONLY harbour.call_year ATTACH PARTITION harbour.call_year_a FOR VALUES IN (1, 2);
ALTER TABLE ONLY harbour.call ATTACH PARTITION harbour.other_order DEFAULT;
ALTER TABLE ONLY harbour.arrives ALTER COLUMN id SET DEFAULT nextval('harbour.arrives_id_seq'::regclass);
ALTER TABLE ONLY harbour.leaves ALTER COLUMN id SET DEFAULT nextval('harbour.leaves_id_seq'::regclass);
ALTER SEQUENCE harbour.arrives_id_seq OWNED BY harbour.arrives.id;
ALTER SEQUENCE harbour.leaves_id_seq OWNED BY harbour.leaves.id;
ALTER TABLE harbour.arrives ADD CONSTRAINT arrives_during_excl EXCLUDE USING gist (during WITH &&) WHERE ((id > 7));
ALTER TABLE harbour.arrives ADD CONSTRAINT arrives_pkey PRIMARY KEY (id);
ALTER TABLE harbour.call ADD CONSTRAINT call_id_check CHECK ((id > 0));
ALTER TABLE harbour.call ADD CONSTRAINT call_id_check2 CHECK ((id > 0));
ALTER TABLE ONLY harbour.call ADD CONSTRAINT call_pkey PRIMARY KEY (id, at);
ALTER TABLE ONLY harbour.call_year ADD CONSTRAINT call_year_pkey PRIMARY KEY (id, at);
ALTER TABLE harbour.call_year ADD CONSTRAINT call_year_what_check CHECK ((what <> 'x'::text));
ALTER TABLE harbour.call_year_a ADD CONSTRAINT call_year_a_pkey PRIMARY KEY (id, at);
ALTER TABLE harbour.far ADD CONSTRAINT far_id_check CHECK ((id > 1));
ALTER TABLE harbour.leaves ADD CONSTRAINT leaves_arrives_fkey FOREIGN KEY (arrives) REFERENCES harbour.arrives(id) NOT VALID;
ALTER TABLE harbour.leaves ADD CONSTRAINT leaves_pkey PRIMARY KEY (id);
ALTER TABLE harbour.leaves CLUSTER ON leaves_pkey;
ALTER TABLE harbour.arrives ADD CONSTRAINT arrives_leaves_fkey FOREIGN KEY (leaves) REFERENCES harbour.leaves(id) MATCH FULL;
ALTER DOMAIN harbour.marks ADD CONSTRAINT marks_check CHECK ((array_length(VALUE, 1) < 5));
ALTER DOMAIN harbour.mmsi ADD CONSTRAINT digits CHECK ((VALUE ~ '^[0-9]{9}$'::text));
ALTER TABLE harbour.other_order ADD CONSTRAINT other_order_id_check CHECK ((id > 0));
ALTER TABLE harbour.other_order ADD CONSTRAINT other_order_pkey PRIMARY KEY (id, at);
ALTER DOMAIN harbour.own ADD CONSTRAINT own_check CHECK (((VALUE)::text <> '999999999'::text));
ALTER TABLE harbour.placed ADD CONSTRAINT placed_pkey PRIMARY KEY (lat, lon);
CREATE UNIQUE INDEX call_both ON ONLY harbour.call USING btree (at, id);
CREATE INDEX call_what ON ONLY harbour.call USING btree (what);
CREATE UNIQUE INDEX call_year_at_id_idx ON ONLY harbour.call_year USING btree (at, id);
CREATE UNIQUE INDEX call_year_a_at_id_idx ON harbour.call_year_a USING btree (at, id);
CREATE INDEX call_year_what_idx ON ONLY harbour.call_year USING btree (what);
CREATE INDEX call_year_a_what_idx ON harbour.call_year_a USING btree (what);
CREATE UNIQUE INDEX leaves_key ON harbour.leaves USING btree (id);
ALTER TABLE harbour.leaves REPLICA IDENTITY USING INDEX leaves_key;
CREATE UNIQUE INDEX other_order_at_id_idx ON harbour.other_order USING btree (at, id);
CREATE INDEX other_order_what_idx ON harbour.other_order USING btree (what);
CREATE INDEX vessel_tides ON harbour.arrives USING gist (during);
ALTER INDEX harbour.call_pkey ATTACH PARTITION harbour.call_year_pkey;
ALTER INDEX harbour.call_year_pkey ATTACH PARTITION harbour.call_year_a_pkey;
ALTER INDEX harbour.call_pkey ATTACH PARTITION harbour.other_order_pkey;
ALTER INDEX harbour.call_year_at_id_idx ATTACH PARTITION harbour.call_year_a_at_id_idx;
ALTER INDEX harbour.call_year_what_idx ATTACH PARTITION harbour.call_year_a_what_idx;
ALTER INDEX harbour.call_both ATTACH PARTITION harbour.call_year_at_id_idx;
ALTER INDEX harbour.call_what ATTACH PARTITION harbour.call_year_what_idx;
ALTER INDEX harbour.call_both ATTACH PARTITION harbour.other_order_at_id_idx;
ALTER INDEX harbour.call_what ATTACH PARTITION harbour.other_order_what_idx;
CREATE VIEW harbour.counting AS
 WITH RECURSIVE counting(n) AS (
         VALUES (1)
        UNION ALL
         SELECT (counting_1.n + 1)
           FROM counting counting_1
          WHERE (counting_1.n < 10)
        )
 SELECT counting.n
   FROM counting;
ALTER VIEW harbour.counting OWNER TO vorrang;
CREATE VIEW harbour.grouped AS
 SELECT l.id,
    l.vessel,
    count(*) AS count
   FROM harbour.leaves l
  GROUP BY l.id;
ALTER VIEW harbour.grouped OWNER TO vorrang;
CREATE AGGREGATE harbour.all_of(*) (SFUNC = int8inc, STYPE = bigint, INITCOND = '0');
ALTER AGGREGATE harbour.all_of(*) OWNER TO vorrang;
CREATE FUNCTION harbour.any_of(anyelement, anyarray)
 RETURNS anyelement
 LANGUAGE sql
AS $function$SELECT $1$function$;
ALTER FUNCTION harbour.any_of(anyelement, anyarray) OWNER TO vorrang;
CREATE FUNCTION harbour.apart(numeric, numeric)
 RETURNS double precision
 LANGUAGE sql
 IMMUTABLE
AS $function$SELECT ($1 - $2)::double precision$function$;
ALTER FUNCTION harbour.apart(numeric, numeric) OWNER TO vorrang;
CREATE TYPE harbour.tides AS RANGE (SUBTYPE = numeric, SUBTYPE_DIFF = harbour.apart, MULTIRANGE_TYPE_NAME = harbour.many_tides);
ALTER TYPE harbour.tides OWNER TO vorrang;
CREATE FUNCTION harbour.atomic(n integer)
 RETURNS integer
 LANGUAGE sql
BEGIN ATOMIC
 SELECT (count(*))::integer AS count
    FROM harbour.grouped
   WHERE (grouped.id > atomic.n);
END;
ALTER FUNCTION harbour.atomic(n integer) OWNER TO vorrang;
CREATE FUNCTION harbour.deep(x numeric, OUT a numeric, OUT b text)
 RETURNS record
 LANGUAGE sql
 IMMUTABLE PARALLEL SAFE COST 5
AS $function$ SELECT x * 2, 'deep' $function$;
ALTER FUNCTION harbour.deep(x numeric, OUT a numeric, OUT b text) OWNER TO vorrang;
CREATE AGGREGATE harbour.longest(text) (SFUNC = textcat, STYPE = text, INITCOND = '');
ALTER AGGREGATE harbour.longest(text) OWNER TO vorrang;
CREATE FUNCTION harbour.loud(t text)
 RETURNS text
 LANGUAGE sql
 IMMUTABLE STRICT LEAKPROOF
RETURN (upper(t) || '!'::text);
ALTER FUNCTION harbour.loud(t text) OWNER TO vorrang;
CREATE TABLE harbour.vessel (
    id integer NOT NULL GENERATED ALWAYS AS IDENTITY (START 100 INCREMENT 10 MINVALUE 1 MAXVALUE 2147483647 CACHE 5),
    "Name, full" text COLLATE harbour.plain DEFAULT 'no ''name'''::text NOT NULL,
    kind harbour.kind DEFAULT 'tug'::harbour.kind,
    own harbour.own,
    marks harbour.marks,
    spot harbour.spot,
    tides harbour.many_tides,
    draught numeric(5,2),
    hull text,
    loud text GENERATED ALWAYS AS (harbour.loud("Name, full")) STORED,
    counter bigint,
    bits bit varying(8) DEFAULT '101'::"bit",
    flags "char",
    gone interval day to second(2),
    "order" integer
) WITH (fillfactor=90, toast.autovacuum_enabled=false);
COMMENT ON COLUMN harbour.vessel."Name, full" IS 'as on the bow';
ALTER TABLE ONLY harbour.vessel ALTER COLUMN draught SET (n_distinct=-0.5);
ALTER TABLE ONLY harbour.vessel ALTER COLUMN hull SET STORAGE EXTERNAL;
ALTER TABLE ONLY harbour.vessel ALTER COLUMN hull SET STATISTICS 500;
ALTER TABLE harbour.vessel REPLICA IDENTITY FULL;
ALTER TABLE harbour.vessel ENABLE ROW LEVEL SECURITY, NO FORCE ROW LEVEL SECURITY;
COMMENT ON TABLE harbour.vessel IS E'a	tab, a \\ and
a line';
ALTER TABLE harbour.vessel OWNER TO vorrang;
ALTER SEQUENCE harbour.vessel_id_seq OWNER TO vorrang;
ALTER TABLE harbour.vessel ADD CONSTRAINT "the ""name""" UNIQUE NULLS NOT DISTINCT ("Name, full") INCLUDE (hull);
ALTER TABLE harbour.vessel ADD CONSTRAINT vessel_order_key UNIQUE ("order") DEFERRABLE INITIALLY DEFERRED;
ALTER TABLE harbour.vessel ADD CONSTRAINT vessel_pkey PRIMARY KEY (id) WITH (fillfactor=80);
ALTER TABLE harbour.call ADD CONSTRAINT call_vessel_fkey FOREIGN KEY (vessel) REFERENCES harbour.vessel(id);
ALTER TABLE harbour.leaves ADD CONSTRAINT leaves_vessel_fkey FOREIGN KEY (vessel) REFERENCES harbour.vessel(id) ON UPDATE CASCADE ON DELETE SET NULL DEFERRABLE;
CREATE INDEX vessel_c ON harbour.vessel USING btree (hull COLLATE "C");
CREATE INDEX vessel_hull_idx ON harbour.vessel USING hash (hull);
CREATE INDEX vessel_id_idx ON harbour.vessel USING brin (id) WITH (pages_per_range='8');
CREATE INDEX vessel_odd ON harbour.vessel USING btree (lower("Name, full") text_pattern_ops DESC NULLS LAST, ((draught + (1)::numeric))) INCLUDE (hull) WITH (fillfactor='70') WHERE (draught > (1)::numeric);
ALTER INDEX harbour.vessel_odd ALTER COLUMN 2 SET STATISTICS 99;
COMMENT ON INDEX harbour.vessel_odd IS 'odd';
CREATE VIEW harbour.named WITH (check_option=cascaded, security_barrier=true) AS
 SELECT vessel."Name, full" AS who,
    vessel.kind AS what
   FROM harbour.vessel
  WHERE (vessel.id > 3);
COMMENT ON VIEW harbour.named IS 'a view';
ALTER VIEW harbour.named OWNER TO vorrang;
ALTER VIEW harbour.named ALTER COLUMN who SET DEFAULT 'nobody'::text;
COMMENT ON COLUMN harbour.named.who IS 'a name';
CREATE MATERIALIZED VIEW harbour.counted WITH (fillfactor=60) AS
 SELECT named.who,
    count(*) AS many
   FROM harbour.named
  GROUP BY named.who
WITH NO DATA;
ALTER MATERIALIZED VIEW harbour.counted OWNER TO vorrang;
CREATE UNIQUE INDEX counted_who ON harbour.counted USING btree (who);
CREATE AGGREGATE harbour.middle(double precision ORDER BY anyelement) (SFUNC = ordered_set_transition, STYPE = internal, FINALFUNC = percentile_disc_final, FINALFUNC_EXTRA);
ALTER AGGREGATE harbour.middle(double precision ORDER BY anyelement) OWNER TO vorrang;
CREATE PROCEDURE harbour.moor(INOUT a integer, IN b text DEFAULT 'b;c'::text)
 LANGUAGE plpgsql
AS $procedure$BEGIN a := a + 1; COMMIT; END$procedure$;
ALTER PROCEDURE harbour.moor(INOUT a integer, IN b text) OWNER TO vorrang;
CREATE FUNCTION harbour.next()
 RETURNS bigint
 LANGUAGE plpgsql
AS $function$BEGIN RETURN nextval('harbour.quick'); END$function$;
ALTER FUNCTION harbour.next() OWNER TO vorrang;
ALTER TABLE ONLY harbour.vessel ALTER COLUMN counter SET DEFAULT harbour.next();
CREATE TABLE harbour.barge (
    draught numeric(5,2) DEFAULT 4,
    pull integer NOT NULL
) INHERITS (harbour.vessel);
ALTER TABLE harbour.barge OWNER TO vorrang;
ALTER TABLE ONLY harbour.barge ALTER COLUMN counter SET DEFAULT harbour.next();
CREATE TABLE harbour.towed () INHERITS (harbour.barge);
ALTER TABLE harbour.towed OWNER TO vorrang;
ALTER TABLE ONLY harbour.towed ALTER COLUMN counter SET DEFAULT harbour.next();
ALTER TABLE harbour.barge ADD CONSTRAINT barge_pull_check CHECK ((pull > 1)) NO INHERIT;
ALTER TABLE harbour.towed ADD CONSTRAINT towed_pull_check CHECK ((pull > 2));
ALTER TABLE harbour.vessel ADD CONSTRAINT deep CHECK ((draught > (0)::numeric));
COMMENT ON CONSTRAINT deep ON harbour.vessel IS 'how deep';
ALTER TABLE harbour.vessel ADD CONSTRAINT later CHECK (("order" < 9)) NOT VALID;
ALTER TABLE harbour.barge VALIDATE CONSTRAINT later;
CREATE FUNCTION harbour.noticed()
 RETURNS event_trigger
 LANGUAGE plpgsql
AS $function$BEGIN END$function$;
ALTER FUNCTION harbour.noticed() OWNER TO vorrang;
CREATE FUNCTION harbour.of_view(harbour.named)
 RETURNS text
 LANGUAGE sql
 STABLE
AS $function$SELECT $1.who$function$;
ALTER FUNCTION harbour.of_view(harbour.named) OWNER TO vorrang;
CREATE AGGREGATE harbour.rank_of(VARIADIC "any" ORDER BY VARIADIC "any") (SFUNC = ordered_set_transition_multi, STYPE = internal, FINALFUNC = rank_final, FINALFUNC_EXTRA, HYPOTHETICAL);
ALTER AGGREGATE harbour.rank_of(VARIADIC "any" ORDER BY VARIADIC "any") OWNER TO vorrang;
CREATE FUNCTION harbour.rows_of(n integer DEFAULT 3, VARIADIC rest text[] DEFAULT '{}'::text[])
 RETURNS TABLE(id integer, word text)
 LANGUAGE plpgsql
 STABLE SECURITY DEFINER ROWS 7
 SET work_mem TO '8MB'
 SET search_path TO 'harbour', 'pg_temp'
AS $function$BEGIN RETURN QUERY SELECT 1, 'x'; END$function$;
ALTER FUNCTION harbour.rows_of(n integer, VARIADIC rest text[]) OWNER TO vorrang;
CREATE AGGREGATE harbour.total(numeric) (SFUNC = numeric_add, STYPE = numeric, COMBINEFUNC = numeric_add, INITCOND = '0', MSFUNC = numeric_add, MINVFUNC = numeric_sub, MSTYPE = numeric, MINITCOND = '0', PARALLEL = SAFE);
ALTER AGGREGATE harbour.total(numeric) OWNER TO vorrang;
CREATE FUNCTION harbour.touch()
 RETURNS trigger
 LANGUAGE plpgsql
AS $function$BEGIN RETURN NEW; END$function$;
ALTER FUNCTION harbour.touch() OWNER TO vorrang;
CREATE TRIGGER of_parts BEFORE INSERT ON harbour.call FOR EACH ROW EXECUTE FUNCTION harbour.touch();
CREATE TRIGGER instead INSTEAD OF INSERT ON harbour.grouped FOR EACH ROW EXECUTE FUNCTION harbour.touch();
CREATE TRIGGER "all of it" AFTER UPDATE ON harbour.leaves REFERENCING OLD TABLE AS was NEW TABLE AS is_now FOR EACH STATEMENT EXECUTE FUNCTION harbour.touch();
CREATE CONSTRAINT TRIGGER checked AFTER INSERT ON harbour.leaves FROM harbour.vessel DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION harbour.touch();
ALTER TABLE harbour.leaves ENABLE ALWAYS TRIGGER checked;
COMMENT ON TRIGGER checked ON harbour.leaves IS 'always';
CREATE TRIGGER touched BEFORE INSERT OR UPDATE OF hull, draught ON harbour.vessel FOR EACH ROW WHEN ((new.draught > (1)::numeric)) EXECUTE FUNCTION harbour.touch('a', 'it''s');
ALTER TABLE harbour.vessel DISABLE TRIGGER touched;
CREATE EVENT TRIGGER noticing ON ddl_command_end WHEN TAG IN ('CREATE TABLE', 'DROP TABLE') EXECUTE FUNCTION harbour.noticed();
ALTER EVENT TRIGGER noticing DISABLE;
ALTER EVENT TRIGGER noticing OWNER TO vorrang;
CREATE RULE renamed AS
    ON UPDATE TO harbour.named DO NOTHING;
COMMENT ON RULE renamed ON harbour.named IS 'a rule';
CREATE RULE quiet AS
    ON DELETE TO harbour.vessel
   WHERE (old.id = 1) DO INSTEAD ( UPDATE harbour.leaves SET vessel = NULL::integer;
 INSERT INTO harbour.barge (pull)
  VALUES (3);
);
CREATE POLICY own ON harbour.vessel AS RESTRICTIVE FOR SELECT TO public USING (("Name, full" = CURRENT_USER));
COMMENT ON POLICY own ON harbour.vessel IS 'own';
CREATE POLICY put ON harbour.vessel FOR INSERT TO public WITH CHECK ((EXISTS ( SELECT
   FROM harbour.leaves)));
CREATE STATISTICS harbour.together (dependencies, mcv) ON draught, kind, lower(hull) FROM harbour.vessel;
ALTER STATISTICS harbour.together SET STATISTICS 50;
ALTER STATISTICS harbour.together OWNER TO vorrang;
CREATE PUBLICATION everything FOR ALL TABLES WITH (publish = 'insert, update, delete, truncate');
ALTER PUBLICATION everything OWNER TO vorrang;
CREATE PUBLICATION old WITH (publish = 'insert, update, delete, truncate');
COMMENT ON PUBLICATION old IS 'old';
ALTER PUBLICATION old OWNER TO vorrang;
CREATE PUBLICATION ships WITH (publish = 'insert, update', publish_via_partition_root = true);
ALTER PUBLICATION ships OWNER TO vorrang;
ALTER PUBLICATION ships ADD TABLE ONLY harbour.leaves;
ALTER PUBLICATION ships ADD TABLE ONLY harbour.vessel (id, "Name, full") WHERE ((id > 7));
ALTER PUBLICATION old ADD TABLES IN SCHEMA "Old ""Port"".x";
DROP TABLE port.berth_20;
  -- the rows of port.berth_20
DROP FUNCTION port.touch();
DROP TABLE port.berth_25;
  -- the rows of port.berth_25
DROP TABLE port.berth_12;
  -- the rows of port.berth_12
DROP TABLE port.berth_34;
  -- the rows of port.berth_34
DROP SEQUENCE port.counter_11;
DROP SEQUENCE port.counter_9;
DROP DOMAIN port."length No. 8";
DROP TYPE port.kind_1;
DROP TYPE port.kind_6;
DROP DOMAIN port.length_10;
DROP SCHEMA port;
-- autocommit: false
SET check_function_bodies = off;
CREATE VIEW harbour.circle AS
SELECT
    NULL::text COLLATE harbour.plain AS who;
CREATE FUNCTION harbour.in_circle()
 RETURNS SETOF harbour.circle
 LANGUAGE sql
AS $function$SELECT * FROM harbour.circle$function$;
ALTER FUNCTION harbour.in_circle() OWNER TO vorrang;
CREATE OR REPLACE VIEW harbour.circle AS
 SELECT named.who
   FROM harbour.named
UNION
 SELECT in_circle.who
   FROM harbour.in_circle() in_circle(who);
ALTER VIEW harbour.circle OWNER TO vorrang;
