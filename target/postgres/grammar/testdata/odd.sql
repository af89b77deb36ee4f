/*---
mode: transaction
---*/
-- Every odd place where a semicolon is no end. psql sends these statements, and
-- so must we.
SELECT 'it''s; not' AS a, E'back\'s; slash' AS b, U&'d\0061t;a' AS c, "odd;name" FROM (SELECT 1 AS "odd;name") t;
SELECT 'goes'
    ' on; here', E'a\''
    'b; c';
SELECT $$one; two$$, $tag$ $$ ; $other$ ; $tag$, B'01', X'1F', N'n;';
SELECT 1 /* a ; /* nested ; */ still ; */ + /**/ 2 -- the end ; of the line
  AS sum;
CREATE TABLE odd (a int, "b;c" text, d text[] DEFAULT ARRAY['x;','y']);
CREATE TABLE odd_log (a int);
CREATE RULE odd_rule AS ON INSERT TO odd DO ALSO (INSERT INTO odd_log VALUES (NEW.a); INSERT INTO odd_log VALUES (NEW.a + 1));
CREATE FUNCTION odd_sum(x int, y int) RETURNS int LANGUAGE sql
BEGIN ATOMIC
    SELECT CASE WHEN x > 1 THEN CASE y WHEN 1 THEN 2 ELSE 3 END ELSE 0 END;
    SELECT x + y;
END;
CREATE OR REPLACE PROCEDURE odd_do(INOUT x int) LANGUAGE sql BEGIN ATOMIC SELECT x + 1; END;
CREATE FUNCTION odd_old() RETURNS int LANGUAGE plpgsql AS $f$
BEGIN
    IF true THEN RETURN 1; END IF;
END;
$f$;
COPY odd (a, "b;c") FROM stdin;
1	it's; here
2	\N
3	"quoted" $$ /* --
4	\\.
\.
COPY odd (a, "b;c") FROM stdin WITH (FORMAT csv);
5,"a;b"
6,'
\.
DO $$ BEGIN PERFORM 1; END $$;;;
CREATE FUNCTION odd_begin(atomic int) RETURNS int LANGUAGE sql RETURN atomic;
SELECT a::text, 'ж;ü' AS "größe;" FROM odd WHERE a = ANY (ARRAY[1, 2]) AND ("b;c" IS NULL OR true);
INSERT INTO odd VALUES (7, 'last one without its semicolon')
