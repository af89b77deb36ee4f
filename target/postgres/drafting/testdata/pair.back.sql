-- autocommit: false
DROP VIEW port.look_47;
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
ALTER TABLE ONLY port.berth_34 ATTACH PARTITION port.part_40 FOR VALUES WITH (modulus 3, remainder 0);
ALTER TABLE ONLY port.berth_34 ATTACH PARTITION port.part_41 FOR VALUES WITH (modulus 3, remainder 1);
ALTER TABLE ONLY port.berth_34 ATTACH PARTITION port.part_42 FOR VALUES WITH (modulus 3, remainder 2);
ALTER TABLE port.berth_34 ADD CONSTRAINT rule_43 CHECK ((id > 36));
ALTER TABLE port.berth_34 ADD CONSTRAINT rule_45 CHECK ((value_39 > 13));
CREATE INDEX finder_44 ON ONLY port.berth_34 USING btree (id);
CREATE INDEX finder_46 ON ONLY port.berth_34 USING btree (value_39);
CREATE INDEX part_40_id_idx ON port.part_40 USING btree (id);
CREATE INDEX part_40_value_39_idx ON port.part_40 USING btree (value_39);
CREATE INDEX part_41_id_idx ON port.part_41 USING btree (id);
CREATE INDEX part_41_value_39_idx ON port.part_41 USING btree (value_39);
CREATE INDEX part_42_id_idx ON port.part_42 USING btree (id);
CREATE INDEX part_42_value_39_idx ON port.part_42 USING btree (value_39);
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
ALTER TABLE port.berth_20 DROP COLUMN value_1057;
  -- what is in port.berth_20.value_1057
DROP TYPE port.kind_6;
CREATE TYPE port.kind_6 AS ENUM ('label 7');
ALTER TYPE port.kind_6 OWNER TO vorrang;
