-- autocommit: false
SET check_function_bodies = off;
ALTER DEFAULT PRIVILEGES FOR ROLE vorrang IN SCHEMA "Old Port" REVOKE ALL ON SEQUENCES FROM PUBLIC;
DROP PUBLICATION ships;
DROP FUNCTION harbour.greet(who text, times integer);
DROP AGGREGATE harbour.longest(text);
DROP PROCEDURE harbour.nothing();
DROP MATERIALIZED VIEW harbour.counted;
DROP VIEW harbour.named;
DROP TABLE "Old Port"."The Quay";
  -- the rows of "Old Port"."The Quay"
DROP TABLE harbour.call;
  -- the rows of harbour.call
DROP TABLE harbour.scratch;
  -- the rows of harbour.scratch
DROP TABLE harbour.tug;
  -- the rows of harbour.tug
DROP TABLE harbour.vessel;
  -- the rows of harbour.vessel
DROP FUNCTION harbour.touch();
DROP SEQUENCE harbour.berths;
DROP TYPE harbour.kind;
DROP DOMAIN harbour.mmsi;
DROP TYPE harbour.place;
DROP TYPE harbour.tides;
DROP SCHEMA harbour;
DROP EXTENSION pg_trgm;
DROP SCHEMA "Old Port";
