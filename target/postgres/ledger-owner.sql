-- Gives the ledger of this database an owner of its own: steps, and whoever they run as, can read it, and write
-- nothing to it. A superuser runs this in the target's database with psql 14 or newer, once, and again where the
-- database was made anew or the key has changed:
--
--     VORRANG_LEDGER_KEY=… psql -X -f ledger-owner.sql TARGET
--
-- The key is what ledger-key: in the lane file refers to. docs/ledger.md says how entries are written then.
\set ON_ERROR_STOP on
\set owner <owner>
\set login <login>
\getenv key VORRANG_LEDGER_KEY
\if :{?key}
\else
    \warn 'VORRANG_LEDGER_KEY is not set: give it the key that ledger-key in the lane file refers to'
    \set key ''
\endif
BEGIN;
SET LOCAL search_path = pg_catalog;
SET LOCAL standard_conforming_strings = on;
SET LOCAL client_min_messages = warning;
SET LOCAL log_statement = 'none'; -- the key is not to be kept in the server's log
SET LOCAL log_min_duration_statement = -1;
SELECT set_config('vorrang.key_length', length(:'key')::text, true) \g /dev/null
DO $$
BEGIN
    IF current_setting('vorrang.key_length')::int < 32 THEN
        RAISE EXCEPTION 'the key has % characters; it needs 32 or more', current_setting('vorrang.key_length');
    END IF;
END
$$;

SELECT format('CREATE ROLE %I NOLOGIN', :'owner') WHERE NOT EXISTS (SELECT FROM pg_roles WHERE rolname = :'owner') \gexec
SELECT to_regclass('vorrang.ledger') IS NULL AS missing \gset
\if :missing
<ledger>
\endif

ALTER SCHEMA vorrang OWNER TO :"owner";
ALTER TABLE vorrang.ledger OWNER TO :"owner";
ALTER FUNCTION vorrang.refuse_change() OWNER TO :"owner";
DROP TABLE IF EXISTS vorrang.ledger_key;
DROP FUNCTION IF EXISTS vorrang.append(bigint, timestamptz, text, text, text, text, text, text, bigint, json, text, text, bytea);

-- What somebody left here while the ledger had no owner of its own could read the key.
DO $$
DECLARE
    strange text;
BEGIN
    SELECT string_agg(what, ', ') INTO strange FROM (
        SELECT format('function %s', oid::regprocedure) FROM pg_proc
            WHERE pronamespace = 'vorrang'::regnamespace AND oid <> 'vorrang.refuse_change()'::regprocedure
        UNION ALL
        SELECT format('trigger %s', tgname) FROM pg_trigger
            WHERE tgrelid = 'vorrang.ledger'::regclass AND NOT tgisinternal AND tgname <> 'append_only'
        UNION ALL
        SELECT format('rule %s', rulename) FROM pg_rewrite WHERE ev_class = 'vorrang.ledger'::regclass
        UNION ALL
        SELECT format('relation %s', relname) FROM pg_class
            WHERE relnamespace = 'vorrang'::regnamespace AND relkind IN ('r', 'p', 'v', 'm', 'f', 'S') AND relname <> 'ledger'
    ) found (what);
    IF strange IS NOT NULL THEN
        RAISE EXCEPTION 'in schema vorrang there is more than the ledger: %', strange
            USING HINT = 'Find out who made it and why, and take it away first.';
    END IF;
END
$$;
<refuse>

CREATE TABLE vorrang.ledger_key (inner_pad bytea NOT NULL, outer_pad bytea NOT NULL);
COMMENT ON TABLE vorrang.ledger_key IS 'What HMAC-SHA-256 needs of the key that ledger-key in the lane file refers to.';
ALTER TABLE vorrang.ledger_key OWNER TO :"owner";
INSERT INTO vorrang.ledger_key
SELECT string_agg(set_byte('\x00', 0, get_byte(k.bytes, i) # 54), '' ORDER BY i), string_agg(set_byte('\x00', 0, get_byte(k.bytes, i) # 92), '' ORDER BY i)
FROM generate_series(0, 63) i, (SELECT sha256(convert_to(:'key', 'UTF8')) || decode(repeat('00', 32), 'hex')) k (bytes);

CREATE FUNCTION vorrang.append(seq bigint, at timestamptz, action text, step text, slug text, checksum text, deployment text, actor text,
    duration_ms bigint, detail json, prev_hash text, hash text, proof bytea)
RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $append$
#variable_conflict use_column
BEGIN
    IF NOT EXISTS (SELECT FROM vorrang.ledger_key WHERE sha256(outer_pad || sha256(inner_pad || convert_to(append.hash, 'UTF8'))) = append.proof) THEN
        RAISE insufficient_privilege USING MESSAGE = 'the ledger takes entries of Vorrang only',
            HINT = 'Where the key has changed, its owner sets it up again: vorrang ledger -setup.';
    END IF;
    INSERT INTO vorrang.ledger VALUES (append.seq, append.at, append.action, append.step, append.slug, append.checksum, append.deployment,
        append.actor, append.duration_ms, append.detail, append.prev_hash, append.hash);
    IF NOT EXISTS (SELECT FROM vorrang.ledger WHERE seq = append.seq AND hash = <hash>) THEN
        RAISE insufficient_privilege USING MESSAGE = 'the entry is not what its hash was made of';
    END IF;
END
$append$;
ALTER FUNCTION vorrang.append(bigint, timestamptz, text, text, text, text, text, text, bigint, json, text, text, bytea) OWNER TO :"owner";

SELECT format('REVOKE ALL ON %s FROM %s', what, who) FROM
    (VALUES ('SCHEMA vorrang'), ('ALL TABLES IN SCHEMA vorrang'), ('ALL FUNCTIONS IN SCHEMA vorrang')) objects (what),
    (SELECT 'PUBLIC' UNION ALL SELECT quote_ident(rolname) FROM pg_roles WHERE rolname <> :'owner' AND rolname <> 'pg_database_owner' AND (rolname NOT LIKE 'pg\_%')) roles (who) \gexec
GRANT USAGE ON SCHEMA vorrang TO :"login";
GRANT SELECT ON vorrang.ledger TO :"login";
GRANT EXECUTE ON FUNCTION vorrang.append(bigint, timestamptz, text, text, text, text, text, text, bigint, json, text, text, bytea) TO :"login";

-- Whoever may become the owner may do what the owner may.
SELECT set_config('vorrang.owner', :'owner', true), set_config('vorrang.login', :'login', true) \g /dev/null
DO $$
BEGIN
    IF pg_has_role(current_setting('vorrang.login'), current_setting('vorrang.owner'), 'MEMBER') THEN
        RAISE EXCEPTION 'user % is a superuser, or a member of %', current_setting('vorrang.login'), current_setting('vorrang.owner')
            USING HINT = 'Let the target''s URL name a user who is neither.';
    END IF;
END
$$;
COMMIT;
\echo the ledger belongs to :owner, and :login may read it; vorrang probe says whether all is as it should be
