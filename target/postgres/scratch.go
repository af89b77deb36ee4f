package postgres

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/core/deploy"
	"vorrang/core/sqltext"
)

const scratchPrefix = "vorrang_scratch_"

// scratchAge is how old a scratch database without sessions must be to count
// as left behind by a service that was killed.
const scratchAge = time.Hour

// Scratch is an empty database beside a target, for trials.
type Scratch struct {
	*Session
	Role   string // that Run takes; empty for the URL's user
	beside *Session
	name   string
}

// NewScratch makes a scratch database on the server that a URL names, and opens
// a session on it. The URL's user needs the right to create databases. Scratch
// databases that were left behind long ago are dropped.
func NewScratch(ctx context.Context, url string) (*Scratch, error) {
	beside, err := Connect(ctx, url, "vorrangd scratch")
	if err != nil {
		return nil, err
	}
	s := &Scratch{beside: beside, name: fmt.Sprintf("%s%d_%s", scratchPrefix, time.Now().Unix(), rand.Text()[:8])}
	if err := s.sweep(ctx); err != nil {
		beside.Close()
		return nil, err
	}
	if err := beside.exec(ctx, "CREATE DATABASE "+sqltext.Identifier(s.name)); err != nil {
		beside.Close()
		return nil, fmt.Errorf("make a scratch database (the user of the target's URL needs the right to create databases: ALTER ROLE %s CREATEDB): %w",
			sqltext.Identifier(beside.conn.Config().User), err)
	}
	if s.Session, err = ConnectTo(ctx, url, "vorrangd scratch", s.name); err != nil {
		s.drop()
		return nil, err
	}
	return s, nil
}

// Close drops the database.
func (s *Scratch) Close() {
	s.Session.Close()
	s.drop()
}

// Run carries a file's statements out: all in one transaction, or each in its
// own. An error names the statement's line.
func (s *Scratch) Run(ctx context.Context, text []byte, autocommit bool) error {
	statements, err := sqltext.Cut(text)
	if err != nil || len(statements) == 0 {
		return err
	}
	if autocommit {
		err = s.Prepare(ctx, deploy.Settings{Role: s.Role})
	} else {
		err = s.Begin(ctx, deploy.Settings{Role: s.Role})
	}
	for _, statement := range statements {
		if err == nil {
			if _, err = s.Exec(ctx, statement); err != nil {
				err = fmt.Errorf("line %d: %w", statement.Line, err)
			}
		}
	}
	if err != nil {
		return errors.Join(err, s.Rollback(ctx))
	}
	if autocommit {
		return nil
	}
	return s.step(ctx, "COMMIT")
}

func (s *Scratch) drop() {
	ctx, cancel := context.WithTimeout(context.Background(), 10*cancelGrace)
	defer cancel()
	_ = s.beside.exec(ctx, "DROP DATABASE IF EXISTS "+sqltext.Identifier(s.name)) // the next sweep finds what stays
	s.beside.Close()
}

func (s *Scratch) sweep(ctx context.Context) error {
	rows, err := s.beside.conn.Query(ctx, `SELECT datname FROM pg_catalog.pg_database d
		WHERE datname LIKE 'vorrang\_scratch\_%' AND split_part(datname, '_', 3)::bigint < $1 AND pg_catalog.pg_has_role(datdba, 'USAGE')
			AND NOT EXISTS (SELECT FROM pg_catalog.pg_stat_activity a WHERE a.datid = d.oid)`, time.Now().Add(-scratchAge).Unix())
	if err != nil {
		return fmt.Errorf("look for old scratch databases: %w", s.beside.wrap(err))
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return fmt.Errorf("look for old scratch databases: %w", s.beside.wrap(err))
	}
	for _, name := range names {
		_ = s.beside.exec(ctx, "DROP DATABASE IF EXISTS "+sqltext.Identifier(name)) // somebody else may be at it
	}
	return nil
}

// objectNames lists what is in the application's schemas, without what belongs
// to extensions.
const objectNames = `WITH spaces AS (
    SELECT oid, nspname FROM pg_catalog.pg_namespace
    WHERE nspname <> 'vorrang' AND nspname <> 'information_schema' AND nspname NOT LIKE 'pg\_%'
      AND (cardinality($1::text[]) = 0 OR nspname = ANY ($1::text[]))
), extended AS (
    SELECT classid, objid FROM pg_catalog.pg_depend WHERE deptype = 'e'
), relations AS (
    SELECT c.oid, c.relkind, nspname || '.' || relname AS name FROM pg_catalog.pg_class c JOIN spaces ON spaces.oid = relnamespace
    WHERE (1259, c.oid) NOT IN (SELECT classid, objid FROM extended)
)
SELECT 'schema ' || nspname FROM spaces WHERE nspname <> 'public'
UNION SELECT CASE relkind WHEN 'r' THEN 'table ' WHEN 'p' THEN 'table ' WHEN 'f' THEN 'foreign table ' WHEN 'v' THEN 'view '
        WHEN 'm' THEN 'materialized view ' WHEN 'S' THEN 'sequence ' WHEN 'c' THEN 'type ' ELSE 'index ' END || name
    FROM relations WHERE relkind IN ('r', 'p', 'f', 'v', 'm', 'S', 'c', 'i', 'I')
UNION SELECT 'column ' || name || '.' || attname FROM relations JOIN pg_catalog.pg_attribute ON attrelid = oid
    WHERE relkind IN ('r', 'p', 'f', 'v', 'm', 'c') AND attnum > 0 AND NOT attisdropped
UNION SELECT 'constraint ' || name || '.' || conname FROM relations JOIN pg_catalog.pg_constraint ON conrelid = relations.oid
UNION SELECT 'trigger ' || name || '.' || tgname FROM relations JOIN pg_catalog.pg_trigger ON tgrelid = relations.oid WHERE NOT tgisinternal
UNION SELECT 'policy ' || name || '.' || polname FROM relations JOIN pg_catalog.pg_policy ON polrelid = relations.oid
UNION SELECT 'function ' || nspname || '.' || proname || '(' || pg_catalog.pg_get_function_identity_arguments(p.oid) || ')'
    FROM pg_catalog.pg_proc p JOIN spaces ON spaces.oid = pronamespace WHERE (1255, p.oid) NOT IN (SELECT classid, objid FROM extended)
UNION SELECT 'type ' || nspname || '.' || typname FROM pg_catalog.pg_type t JOIN spaces ON spaces.oid = typnamespace
    WHERE typtype IN ('e', 'd', 'r') AND (1247, t.oid) NOT IN (SELECT classid, objid FROM extended)`

// Names lists the objects in the application's schemas by kind and name, such
// as "column harbour.vessel.name"; no schemas means all but the system's and
// Vorrang's. They are sorted.
func (s *Session) Names(ctx context.Context, schemas []string) ([]string, error) {
	if schemas == nil {
		schemas = []string{}
	}
	rows, err := s.conn.Query(ctx, objectNames, schemas)
	if err != nil {
		return nil, fmt.Errorf("list the target's objects: %w", s.wrap(err))
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, fmt.Errorf("list the target's objects: %w", s.wrap(err))
	}
	slices.Sort(names) // by bytes, whatever the database's collation
	return names, nil
}
