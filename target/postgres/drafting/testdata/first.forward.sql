-- autocommit: false
SET check_function_bodies = off;
CREATE SCHEMA "Old Port";
ALTER SCHEMA "Old Port" OWNER TO vorrang;
CREATE EXTENSION pg_trgm WITH SCHEMA "Old Port" VERSION '1.6';
CREATE SCHEMA harbour;
ALTER SCHEMA harbour OWNER TO vorrang;
CREATE TYPE harbour.kind AS ENUM ('tug', 'ferry');
ALTER TYPE harbour.kind OWNER TO vorrang;
CREATE DOMAIN harbour.mmsi AS text NOT NULL;
ALTER DOMAIN harbour.mmsi OWNER TO vorrang;
CREATE TYPE harbour.place AS (lat numeric, lon numeric);
ALTER TYPE harbour.place OWNER TO vorrang;
CREATE TYPE harbour.tides AS RANGE (SUBTYPE = numeric, MULTIRANGE_TYPE_NAME = harbour.tides_multirange);
ALTER TYPE harbour.tides OWNER TO vorrang;
CREATE SEQUENCE harbour.berths START 5 INCREMENT 1 MINVALUE 1 MAXVALUE 100 CACHE 1 CYCLE;
ALTER SEQUENCE harbour.berths OWNER TO vorrang;
CREATE TABLE "Old Port"."The Quay" (
    "a b" integer DEFAULT 7
);
ALTER TABLE "Old Port"."The Quay" OWNER TO vorrang;
CREATE TABLE harbour.call (
    id bigint NOT NULL,
    vessel integer,
    at date
) PARTITION BY RANGE (at);
ALTER TABLE harbour.call OWNER TO vorrang;
CREATE SEQUENCE harbour.call_id_seq;
ALTER SEQUENCE harbour.call_id_seq OWNER TO vorrang;
CREATE TABLE harbour.call_2026 (
    id bigint NOT NULL,
    vessel integer,
    at date
);
ALTER TABLE harbour.call_2026 OWNER TO vorrang;
CREATE UNLOGGED TABLE harbour.scratch (
    id integer NOT NULL,
    name text COLLATE "C" NOT NULL,
    kind harbour.kind,
    draught numeric(5,2),
    hull text
);
ALTER TABLE harbour.scratch OWNER TO vorrang;
CREATE TABLE harbour.vessel (
    id integer NOT NULL GENERATED ALWAYS AS IDENTITY,
    name text COLLATE "C" NOT NULL,
    kind harbour.kind DEFAULT 'tug'::harbour.kind,
    draught numeric(5,2),
    hull text
);
GRANT SELECT (name) ON TABLE harbour.vessel TO PUBLIC;
ALTER TABLE ONLY harbour.vessel ALTER COLUMN hull SET STORAGE EXTERNAL;
ALTER TABLE ONLY harbour.vessel ALTER COLUMN hull SET STATISTICS 500;
ALTER TABLE harbour.vessel ENABLE ROW LEVEL SECURITY, NO FORCE ROW LEVEL SECURITY;
ALTER TABLE harbour.vessel OWNER TO vorrang;
ALTER SEQUENCE harbour.vessel_id_seq OWNER TO vorrang;
CREATE TABLE harbour.tug (
    pull integer,
    double integer GENERATED ALWAYS AS ((pull * 2)) STORED
) INHERITS (harbour.vessel) WITH (fillfactor=70);
ALTER TABLE harbour.tug OWNER TO vorrang;
ALTER TABLE ONLY harbour.call ATTACH PARTITION harbour.call_2026 FOR VALUES FROM ('2026-01-01') TO ('2027-01-01');
ALTER TABLE ONLY harbour.call ALTER COLUMN id SET DEFAULT nextval('harbour.call_id_seq'::regclass);
ALTER TABLE ONLY harbour.call_2026 ALTER COLUMN id SET DEFAULT nextval('harbour.call_id_seq'::regclass);
ALTER SEQUENCE harbour.call_id_seq OWNED BY harbour.call.id;
ALTER TABLE "Old Port"."The Quay" ADD CONSTRAINT "The Quay_a b_excl" EXCLUDE USING btree ("a b" WITH =);
ALTER DOMAIN harbour.mmsi ADD CONSTRAINT mmsi_check CHECK ((VALUE ~ '^[0-9]{9}$'::text));
ALTER TABLE harbour.vessel ADD CONSTRAINT deep CHECK ((draught > (0)::numeric)) NOT VALID;
ALTER TABLE harbour.vessel ADD CONSTRAINT vessel_pkey PRIMARY KEY (id);
ALTER TABLE harbour.call ADD CONSTRAINT call_vessel_fkey FOREIGN KEY (vessel) REFERENCES harbour.vessel(id) DEFERRABLE INITIALLY DEFERRED;
ALTER TABLE harbour.tug VALIDATE CONSTRAINT deep;
CREATE INDEX vessel_name ON harbour.vessel USING btree (lower(name)) INCLUDE (draught) WHERE (draught > (1)::numeric);
CREATE VIEW harbour.named AS
 SELECT vessel.name
   FROM harbour.vessel;
COMMENT ON VIEW harbour.named IS 'it''s a view';
ALTER VIEW harbour.named OWNER TO vorrang;
CREATE MATERIALIZED VIEW harbour.counted AS
 SELECT count(*) AS count
   FROM harbour.vessel
WITH NO DATA;
ALTER MATERIALIZED VIEW harbour.counted OWNER TO vorrang;
CREATE FUNCTION harbour.greet(who text, times integer DEFAULT 1)
 RETURNS text
 LANGUAGE sql
 IMMUTABLE
AS $function$SELECT $1$function$;
ALTER FUNCTION harbour.greet(who text, times integer) OWNER TO vorrang;
REVOKE ALL ON FUNCTION harbour.greet(who text, times integer) FROM PUBLIC;
CREATE AGGREGATE harbour.longest(text) (SFUNC = textcat, STYPE = text, INITCOND = '');
ALTER AGGREGATE harbour.longest(text) OWNER TO vorrang;
CREATE PROCEDURE harbour.nothing()
 LANGUAGE sql
AS $procedure$$procedure$;
ALTER PROCEDURE harbour.nothing() OWNER TO vorrang;
CREATE FUNCTION harbour.touch()
 RETURNS trigger
 LANGUAGE plpgsql
AS $function$BEGIN RETURN NEW; END$function$;
ALTER FUNCTION harbour.touch() OWNER TO vorrang;
CREATE TRIGGER touched BEFORE UPDATE OF name ON harbour.vessel FOR EACH ROW WHEN ((old.name <> new.name)) EXECUTE FUNCTION harbour.touch();
CREATE RULE quiet AS
    ON DELETE TO harbour.vessel DO INSTEAD NOTHING;
CREATE POLICY own ON harbour.vessel FOR SELECT TO public USING ((name = CURRENT_USER));
CREATE STATISTICS harbour.together ON draught, name FROM harbour.vessel;
ALTER STATISTICS harbour.together OWNER TO vorrang;
CREATE PUBLICATION ships WITH (publish = 'insert');
ALTER PUBLICATION ships OWNER TO vorrang;
ALTER PUBLICATION ships ADD TABLE ONLY harbour.vessel;
ALTER DEFAULT PRIVILEGES FOR ROLE vorrang IN SCHEMA "Old Port" GRANT USAGE ON SEQUENCES TO PUBLIC;
