package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Schemas names the application's schemas for Empty; none means all but the
// system's and Vorrang's.
func (s *Session) Schemas(schemas []string) { s.schemas = schemas }

// dropEverything lists what is in the application's schemas as DROP statements,
// and the schemas themselves where no extension lives in them. Extensions of
// the current user go first; others' stay, with what belongs to them. Where the
// whole database is the application's, so do publications, event triggers and
// foreign servers, which are in no schema. A partitioned table depends on its
// own key; that makes it no part of anything.
const dropEverything = `WITH spaces AS (
    SELECT oid, nspname FROM pg_catalog.pg_namespace
    WHERE nspname <> 'vorrang' AND nspname <> 'information_schema' AND nspname NOT LIKE 'pg\_%'
      AND (cardinality($1::text[]) = 0 OR nspname = ANY ($1::text[]))
), mine AS (
    SELECT oid, extname FROM pg_catalog.pg_extension
    WHERE pg_catalog.pg_has_role(current_user, extowner, 'USAGE') AND extname <> 'plpgsql'
      AND extnamespace IN (SELECT oid FROM spaces)
), contents AS (
    SELECT DISTINCT found.type, found.identity
    FROM pg_catalog.pg_depend d, LATERAL pg_catalog.pg_identify_object(d.classid, d.objid, 0) found
    WHERE d.refclassid = 'pg_catalog.pg_namespace'::regclass AND d.refobjid IN (SELECT oid FROM spaces)
	AND d.deptype = 'n'
      AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend e WHERE e.classid = d.classid AND e.objid = d.objid
	AND e.deptype IN ('e', 'i')
          AND (e.refclassid, e.refobjid) <> (e.classid, e.objid))
      AND found.identity IS NOT NULL AND found.type <> 'default acl' AND found.type <> 'extension'
)
SELECT 0, 'DROP EXTENSION IF EXISTS ' || pg_catalog.quote_ident(extname) || ' CASCADE' FROM mine
UNION ALL
SELECT 1, 'DROP PUBLICATION IF EXISTS ' || pg_catalog.quote_ident(pubname) FROM pg_catalog.pg_publication
WHERE cardinality($1::text[]) = 0 AND pg_catalog.pg_has_role(current_user, pubowner, 'USAGE')
UNION ALL
SELECT 1, 'DROP EVENT TRIGGER IF EXISTS ' || pg_catalog.quote_ident(evtname) || ' CASCADE'
	FROM pg_catalog.pg_event_trigger
WHERE cardinality($1::text[]) = 0 AND pg_catalog.pg_has_role(current_user, evtowner, 'USAGE')
UNION ALL
SELECT 2, 'DROP SERVER IF EXISTS ' || pg_catalog.quote_ident(srvname) || ' CASCADE' FROM pg_catalog.pg_foreign_server
WHERE cardinality($1::text[]) = 0 AND pg_catalog.pg_has_role(current_user, srvowner, 'USAGE')
UNION ALL
SELECT 1, 'DROP ' || CASE type WHEN 'composite type' THEN 'TYPE' WHEN 'statistics object' THEN 'STATISTICS'
	ELSE upper(type) END
    || ' IF EXISTS ' || identity || ' CASCADE' FROM contents
UNION ALL
SELECT 3, 'DROP SCHEMA ' || pg_catalog.quote_ident(nspname) FROM spaces
WHERE nspname <> 'public' AND NOT EXISTS (SELECT FROM pg_catalog.pg_extension x WHERE x.extnamespace = spaces.oid
	AND x.oid NOT IN (SELECT oid FROM mine))
ORDER BY 1, 2`

// Empty implements engine.Steps. What cannot be dropped is an error, and
// nothing is dropped.
func (s *Session) Empty(ctx context.Context) (int, error) {
	schemas := s.schemas
	if schemas == nil {
		schemas = []string{}
	}
	rows, err := s.steps.Query(ctx, dropEverything, schemas)
	if err != nil {
		return 0, fmt.Errorf("list what is to be dropped: %w", wrap(s.steps, err))
	}
	var drops []string
	var order int
	var drop string
	_, err = pgx.ForEachRow(rows, []any{&order, &drop}, func() error {
		drops = append(drops, drop)
		return nil
	})
	if err != nil {
		return 0, fmt.Errorf("list what is to be dropped: %w", wrap(s.steps, err))
	}
	return len(drops), s.step(ctx, "SET LOCAL client_min_messages = warning; "+strings.Join(drops, "; "))
}
