-- autocommit: false
SET check_function_bodies = off;
DROP PUBLICATION everything;
DROP PUBLICATION old;
DROP PUBLICATION ships;
DROP EVENT TRIGGER noticing;
DROP AGGREGATE harbour.all_of(*);
DROP FUNCTION harbour.any_of(anyelement, anyarray);
DROP FUNCTION harbour.atomic(n integer);
DROP FUNCTION harbour.deep(x numeric, OUT a numeric, OUT b text);
DROP AGGREGATE harbour.longest(text);
DROP AGGREGATE harbour.middle(double precision ORDER BY anyelement);
DROP PROCEDURE harbour.moor(INOUT a integer, IN b text);
DROP FUNCTION harbour.noticed();
DROP FUNCTION harbour.of_view(harbour.named);
DROP AGGREGATE harbour.rank_of(VARIADIC "any" ORDER BY VARIADIC "any");
DROP FUNCTION harbour.rows_of(n integer, VARIADIC rest text[]);
DROP AGGREGATE harbour.total(numeric);
DROP MATERIALIZED VIEW harbour.counted;
DROP VIEW harbour.counting;
DROP VIEW harbour.grouped;
CREATE SCHEMA port;
ALTER SCHEMA port OWNER TO vorrang;
CREATE DOMAIN port."length No. 8" AS integer NOT NULL;
ALTER DOMAIN port."length No. 8" OWNER TO vorrang;
CREATE TYPE port.kind_1 AS ENUM ('label 2', 'label 3', 'label 4', 'label 5');
ALTER TYPE port.kind_1 OWNER TO vorrang;
CREATE TYPE port.kind_6 AS ENUM ('label 7');
ALTER TYPE port.kind_6 OWNER TO vorrang;
CREATE DOMAIN port.length_10 AS integer;
ALTER DOMAIN port.length_10 OWNER TO vorrang;
CREATE SEQUENCE port.counter_11 START 5 INCREMENT 1 MINVALUE 1 MAXVALUE 9223372036854775807 CACHE 1;
ALTER SEQUENCE port.counter_11 OWNER TO vorrang;
CREATE SEQUENCE port.counter_9 START 5 INCREMENT 1 MINVALUE 1 MAXVALUE 9223372036854775807 CACHE 1;
ALTER SEQUENCE port.counter_9 OWNER TO vorrang;
CREATE TABLE port.berth_12 (
    id integer NOT NULL,
    "value""13" integer,
    value_14 character varying(40),
    value_15 text
) PARTITION BY HASH (id);
ALTER TABLE port.berth_12 OWNER TO vorrang;
CREATE TABLE port."part""18" (
    id integer NOT NULL,
    "value""13" integer,
    value_14 character varying(40),
    value_15 text
);
ALTER TABLE port."part""18" OWNER TO vorrang;
CREATE TABLE port.berth_20 (
    id integer NOT NULL,
    value_21 port.length_10,
    "value""22" port.kind_1 NOT NULL,
    "value No. 23" boolean NOT NULL
);
COMMENT ON COLUMN port.berth_20."value No. 23" IS 'it''s "value No. 23"';
ALTER TABLE port.berth_20 OWNER TO vorrang;
CREATE TABLE port.berth_25 (
    id integer NOT NULL,
    value_26 port.kind_1 DEFAULT 'label 3'::port.kind_1
) PARTITION BY HASH (id);
ALTER TABLE port.berth_25 OWNER TO vorrang;
CREATE TABLE port.berth_34 (
    id integer NOT NULL,
    value_35 jsonb,
    "value No. 36" port.kind_1 DEFAULT 'label 4'::port.kind_1,
    value_37 bigint,
    value_38 integer NOT NULL GENERATED ALWAYS AS ((id * 3)) STORED,
    value_39 integer GENERATED ALWAYS AS ((id * 4)) STORED
) PARTITION BY HASH (id);
COMMENT ON COLUMN port.berth_34.value_39 IS 'it''s value_39';
ALTER TABLE port.berth_34 OWNER TO vorrang;
CREATE TABLE port.part_16 (
    id integer NOT NULL,
    "value""13" integer,
    value_14 character varying(40),
    value_15 text
);
ALTER TABLE port.part_16 OWNER TO vorrang;
CREATE TABLE port.part_17 (
    id integer NOT NULL,
    "value""13" integer,
    value_14 character varying(40),
    value_15 text
);
ALTER TABLE port.part_17 OWNER TO vorrang;
CREATE TABLE port.part_27 (
    id integer NOT NULL,
    value_26 port.kind_1 DEFAULT 'label 3'::port.kind_1
);
ALTER TABLE port.part_27 OWNER TO vorrang;
CREATE TABLE port.part_28 (
    id integer NOT NULL,
    value_26 port.kind_1 DEFAULT 'label 3'::port.kind_1
);
ALTER TABLE port.part_28 OWNER TO vorrang;
CREATE TABLE port.part_40 (
    id integer NOT NULL,
    value_35 jsonb,
    "value No. 36" port.kind_1 DEFAULT 'label 4'::port.kind_1,
    value_37 bigint,
    value_38 integer NOT NULL GENERATED ALWAYS AS ((id * 3)) STORED,
    value_39 integer GENERATED ALWAYS AS ((id * 4)) STORED
);
ALTER TABLE port.part_40 OWNER TO vorrang;
CREATE TABLE port.part_41 (
    id integer NOT NULL,
    value_35 jsonb,
    "value No. 36" port.kind_1 DEFAULT 'label 4'::port.kind_1,
    value_37 bigint,
    value_38 integer NOT NULL GENERATED ALWAYS AS ((id * 3)) STORED,
    value_39 integer GENERATED ALWAYS AS ((id * 4)) STORED
);
ALTER TABLE port.part_41 OWNER TO vorrang;
CREATE TABLE port.part_42 (
    id integer NOT NULL,
    value_35 jsonb,
    "value No. 36" port.kind_1 DEFAULT 'label 4'::port.kind_1,
    value_37 bigint,
    value_38 integer NOT NULL GENERATED ALWAYS AS ((id * 3)) STORED,
    value_39 integer GENERATED ALWAYS AS ((id * 4)) STORED
);
ALTER TABLE port.part_42 OWNER TO vorrang;
ALTER TABLE ONLY port.berth_12 ATTACH PARTITION port."part""18" FOR VALUES WITH (modulus 3, remainder 2);
ALTER TABLE ONLY port.berth_12 ATTACH PARTITION port.part_16 FOR VALUES WITH (modulus 3, remainder 0);
ALTER TABLE ONLY port.berth_12 ATTACH PARTITION port.part_17 FOR VALUES WITH (modulus 3, remainder 1);
ALTER TABLE ONLY port.berth_25 ATTACH PARTITION port.part_27 FOR VALUES WITH (modulus 2, remainder 0);
ALTER TABLE ONLY port.berth_25 ATTACH PARTITION port.part_28 FOR VALUES WITH (modulus 2, remainder 1);
ALTER TABLE ONLY port.berth_34 ATTACH PARTITION port.part_40 FOR VALUES WITH (modulus 3, remainder 0);
ALTER TABLE ONLY port.berth_34 ATTACH PARTITION port.part_41 FOR VALUES WITH (modulus 3, remainder 1);
ALTER TABLE ONLY port.berth_34 ATTACH PARTITION port.part_42 FOR VALUES WITH (modulus 3, remainder 2);
ALTER TABLE ONLY port."part""18" ALTER COLUMN id SET DEFAULT nextval('port.counter_9'::regclass);
ALTER TABLE ONLY port.berth_12 ALTER COLUMN id SET DEFAULT nextval('port.counter_9'::regclass);
ALTER TABLE ONLY port.berth_25 ALTER COLUMN id SET DEFAULT nextval('port.counter_9'::regclass);
ALTER TABLE ONLY port.part_16 ALTER COLUMN id SET DEFAULT nextval('port.counter_9'::regclass);
ALTER TABLE ONLY port.part_17 ALTER COLUMN id SET DEFAULT nextval('port.counter_9'::regclass);
ALTER TABLE ONLY port.part_27 ALTER COLUMN id SET DEFAULT nextval('port.counter_9'::regclass);
ALTER TABLE ONLY port.part_28 ALTER COLUMN id SET DEFAULT nextval('port.counter_9'::regclass);
ALTER DOMAIN port."length No. 8" ADD CONSTRAINT "length No. 8_check" CHECK ((VALUE < 1000));
ALTER TABLE ONLY port.berth_12 ADD CONSTRAINT key_19 PRIMARY KEY (id);
ALTER TABLE port."part""18" ADD CONSTRAINT "part""18_pkey" PRIMARY KEY (id);
ALTER TABLE port.berth_20 ADD CONSTRAINT key_24 PRIMARY KEY (id);
ALTER TABLE ONLY port.berth_25 ADD CONSTRAINT key_29 PRIMARY KEY (id);
ALTER TABLE port.berth_25 ADD CONSTRAINT rule_30 CHECK ((id > 23));
ALTER TABLE port.berth_25 ADD CONSTRAINT rule_32 CHECK ((id > 16));
ALTER TABLE port.berth_34 ADD CONSTRAINT rule_43 CHECK ((id > 36));
ALTER TABLE port.berth_34 ADD CONSTRAINT rule_45 CHECK ((value_39 > 13));
ALTER TABLE port.part_16 ADD CONSTRAINT part_16_pkey PRIMARY KEY (id);
ALTER TABLE port.part_17 ADD CONSTRAINT part_17_pkey PRIMARY KEY (id);
ALTER TABLE port.part_27 ADD CONSTRAINT part_27_pkey PRIMARY KEY (id);
ALTER TABLE port.part_28 ADD CONSTRAINT part_28_pkey PRIMARY KEY (id);
CREATE INDEX "finder""31" ON ONLY port.berth_25 USING btree (id) WHERE (id IS NOT NULL);
CREATE INDEX "finder""33" ON ONLY port.berth_25 USING hash (id);
CREATE INDEX finder_44 ON ONLY port.berth_34 USING btree (id);
CREATE INDEX finder_46 ON ONLY port.berth_34 USING btree (value_39);
CREATE INDEX part_27_id_idx ON port.part_27 USING btree (id) WHERE (id IS NOT NULL);
CREATE INDEX part_27_id_idx1 ON port.part_27 USING hash (id);
CREATE INDEX part_28_id_idx ON port.part_28 USING btree (id) WHERE (id IS NOT NULL);
CREATE INDEX part_28_id_idx1 ON port.part_28 USING hash (id);
CREATE INDEX part_40_id_idx ON port.part_40 USING btree (id);
CREATE INDEX part_40_value_39_idx ON port.part_40 USING btree (value_39);
CREATE INDEX part_41_id_idx ON port.part_41 USING btree (id);
CREATE INDEX part_41_value_39_idx ON port.part_41 USING btree (value_39);
CREATE INDEX part_42_id_idx ON port.part_42 USING btree (id);
CREATE INDEX part_42_value_39_idx ON port.part_42 USING btree (value_39);
ALTER INDEX port.key_19 ATTACH PARTITION port."part""18_pkey";
ALTER INDEX port.key_19 ATTACH PARTITION port.part_16_pkey;
ALTER INDEX port.key_19 ATTACH PARTITION port.part_17_pkey;
ALTER TABLE port.berth_25 ADD CONSTRAINT link_56 FOREIGN KEY (id) REFERENCES port.berth_12(id) ON DELETE CASCADE;
ALTER INDEX port.key_29 ATTACH PARTITION port.part_27_pkey;
ALTER INDEX port.key_29 ATTACH PARTITION port.part_28_pkey;
ALTER INDEX port."finder""31" ATTACH PARTITION port.part_27_id_idx;
ALTER INDEX port."finder""33" ATTACH PARTITION port.part_27_id_idx1;
ALTER INDEX port."finder""31" ATTACH PARTITION port.part_28_id_idx;
ALTER INDEX port."finder""33" ATTACH PARTITION port.part_28_id_idx1;
ALTER INDEX port.finder_44 ATTACH PARTITION port.part_40_id_idx;
ALTER INDEX port.finder_46 ATTACH PARTITION port.part_40_value_39_idx;
ALTER INDEX port.finder_44 ATTACH PARTITION port.part_41_id_idx;
ALTER INDEX port.finder_46 ATTACH PARTITION port.part_41_value_39_idx;
ALTER INDEX port.finder_44 ATTACH PARTITION port.part_42_id_idx;
ALTER INDEX port.finder_46 ATTACH PARTITION port.part_42_value_39_idx;
CREATE VIEW port.look_47 AS
 SELECT t."value""13",
    t.value_14,
    t.value_15
   FROM port.berth_12 t;
ALTER VIEW port.look_47 OWNER TO vorrang;
CREATE VIEW port.look_49 AS
 SELECT t.value_26
   FROM port.berth_25 t;
ALTER VIEW port.look_49 OWNER TO vorrang;
CREATE VIEW port.look_51 AS
 SELECT t.id,
    t.value_21,
    t."value No. 23"
   FROM port.berth_20 t,
    port.look_49 o;
ALTER VIEW port.look_51 OWNER TO vorrang;
CREATE VIEW port.look_53 AS
 SELECT t.value_15
   FROM port.berth_12 t,
    port.look_51 o;
ALTER VIEW port.look_53 OWNER TO vorrang;
CREATE FUNCTION port."count""50"()
 RETURNS SETOF port.berth_12
 LANGUAGE sql
 STABLE
AS $function$SELECT * FROM port.berth_12$function$;
ALTER FUNCTION port."count""50"() OWNER TO vorrang;
CREATE FUNCTION port.count_48(a integer)
 RETURNS bigint
 LANGUAGE sql
 STABLE
BEGIN ATOMIC
 SELECT count(*) AS count
    FROM port.berth_12
   WHERE (berth_12.id IS NULL);
END;
ALTER FUNCTION port.count_48(a integer) OWNER TO vorrang;
CREATE FUNCTION port.count_52(VARIADIC a integer[])
 RETURNS SETOF port.berth_20
 LANGUAGE sql
AS $function$SELECT * FROM port.berth_20$function$;
ALTER FUNCTION port.count_52(VARIADIC a integer[]) OWNER TO vorrang;
CREATE FUNCTION port.count_54(a integer, b text DEFAULT 'x'::text)
 RETURNS SETOF port.berth_25
 LANGUAGE sql
 IMMUTABLE
AS $function$SELECT * FROM port.berth_25$function$;
ALTER FUNCTION port.count_54(a integer, b text) OWNER TO vorrang;
CREATE FUNCTION port.touch()
 RETURNS trigger
 LANGUAGE plpgsql
AS $function$BEGIN RETURN NEW; END$function$;
ALTER FUNCTION port.touch() OWNER TO vorrang;
CREATE TRIGGER "watch""55" BEFORE UPDATE ON port.berth_20 FOR EACH ROW EXECUTE FUNCTION port.touch();
DROP TABLE "Old ""Port"".x"."The Quay";
  -- the rows of "Old ""Port"".x"."The Quay"
DROP TABLE harbour.call;
  -- the rows of harbour.call
DROP FOREIGN TABLE harbour.far;
DROP TABLE harbour.placed;
  -- the rows of harbour.placed
DROP TABLE harbour.towed;
  -- the rows of harbour.towed
DROP SEQUENCE harbour.berths;
DROP SEQUENCE harbour.quick;
DROP SERVER far;
DROP FOREIGN DATA WRAPPER nothing;
DROP TYPE harbour.names;
DROP EXTENSION hstore;
DROP SCHEMA "Old ""Port"".x";
-- autocommit: false
ALTER TABLE harbour.arrives DROP CONSTRAINT arrives_leaves_fkey;
-- autocommit: false
ALTER TABLE harbour.leaves DROP CONSTRAINT leaves_vessel_fkey;
DROP TRIGGER checked ON harbour.leaves;
-- autocommit: false
DROP RULE quiet ON harbour.vessel;
DROP TABLE harbour.barge;
  -- the rows of harbour.barge
-- autocommit: false
SET check_function_bodies = off;
CREATE OR REPLACE VIEW harbour.circle AS
SELECT
    NULL::text COLLATE harbour.plain AS who;
DROP FUNCTION harbour.in_circle();
DROP VIEW harbour.circle;
DROP VIEW harbour.named;
DROP TABLE harbour.vessel;
  -- the rows of harbour.vessel
DROP FUNCTION harbour.loud(t text);
DROP FUNCTION harbour.next();
DROP TABLE harbour.leaves;
  -- the rows of harbour.leaves
DROP FUNCTION harbour.touch();
DROP TABLE harbour.arrives;
  -- the rows of harbour.arrives
DROP TYPE harbour.kind;
DROP DOMAIN harbour.marks;
DROP DOMAIN harbour.own;
DROP DOMAIN harbour.mmsi;
DROP TYPE harbour.spot;
DROP TYPE harbour.place;
DROP TYPE harbour.tides;
DROP FUNCTION harbour.apart(numeric, numeric);
DROP COLLATION harbour.plain;
DROP SCHEMA harbour;
