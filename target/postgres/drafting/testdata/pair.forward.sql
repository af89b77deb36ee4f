-- autocommit: false
DROP VIEW port.look_47;
ALTER TABLE port.berth_20 ADD COLUMN value_1057 port.length_10;
CREATE VIEW port.look_47 AS
 SELECT t.value_14,
    t.value_15
   FROM port.berth_12 t;
ALTER VIEW port.look_47 OWNER TO vorrang;
DROP TABLE port.berth_34;
  -- the rows of port.berth_34
-- autocommit: true
ALTER TYPE port.kind_6 ADD VALUE 'label 1058' AFTER 'label 7';
