package postgres

import (
	"context"
	"fmt"

	"vorrang/core/engine"
	"vorrang/core/sqltext"

	"github.com/jackc/pgx/v5"
)

// countObjects counts what lies in the application's schemas and belongs to no
// extension. Indexes, toast tables, row types and array types come with
// tables, and are not counted.
const countObjects = `WITH spaces AS (
    SELECT oid FROM pg_catalog.pg_namespace
    WHERE nspname <> 'vorrang' AND nspname <> 'information_schema' AND nspname NOT LIKE 'pg\_%'
      AND (cardinality($1::text[]) = 0 OR nspname = ANY ($1::text[]))
), extended AS (
    SELECT classid, objid FROM pg_catalog.pg_depend WHERE deptype = 'e'
)
SELECT
    (SELECT count(*) FROM pg_catalog.pg_class WHERE relnamespace IN (SELECT oid FROM spaces)
	AND relkind IN ('r', 'p', 'f')
        AND (1259, oid) NOT IN (SELECT classid, objid FROM extended)),
    (SELECT count(*) FROM pg_catalog.pg_class WHERE relnamespace IN (SELECT oid FROM spaces)
	AND relkind IN ('v', 'm', 'c')
        AND (1259, oid) NOT IN (SELECT classid, objid FROM extended))
    + (SELECT count(*) FROM pg_catalog.pg_class c WHERE relnamespace IN (SELECT oid FROM spaces) AND relkind = 'S'
        AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend d WHERE d.classid = 1259 AND d.objid = c.oid
	AND d.deptype IN ('a', 'i', 'e')))
    + (SELECT count(*) FROM pg_catalog.pg_proc WHERE pronamespace IN (SELECT oid FROM spaces)
        AND (1255, oid) NOT IN (SELECT classid, objid FROM extended))
    + (SELECT count(*) FROM pg_catalog.pg_type WHERE typnamespace IN (SELECT oid FROM spaces)
	AND typtype IN ('e', 'd', 'r')
        AND (1247, oid) NOT IN (SELECT classid, objid FROM extended))`

// Existing counts the objects in the application's schemas; no schemas means
// all but the system's and Vorrang's.
func (s *Session) Existing(ctx context.Context, schemas []string) (engine.Existing, error) {
	var e engine.Existing
	if schemas == nil {
		schemas = []string{}
	}
	if err := s.conn.QueryRow(ctx, countObjects, schemas).Scan(&e.Tables, &e.Others); err != nil {
		return e, fmt.Errorf("count the target's objects: %w", s.wrap(err))
	}
	return e, nil
}

const probeTarget = `SELECT current_setting('server_version'), current_database(), current_user,
    coalesce((SELECT version FROM pg_catalog.pg_stat_ssl WHERE pid = pg_backend_pid() AND ssl), ''),
    coalesce((SELECT cipher FROM pg_catalog.pg_stat_ssl WHERE pid = pg_backend_pid() AND ssl), ''),
    pg_is_in_recovery() OR current_setting('default_transaction_read_only') = 'on',
    has_database_privilege(current_database(), 'CREATE'),
    to_regclass('vorrang.ledger') IS NOT NULL,
    coalesce(has_table_privilege(to_regclass('vorrang.ledger'), 'INSERT'), false),
    $1 = '' OR (SELECT count(*) FROM pg_catalog.pg_roles WHERE rolname = $1 AND pg_has_role(oid, 'MEMBER')) = 1`

// rights is what probeTarget found of the session and its user.
type rights struct {
	readOnly, mayCreate, mayWrite, mayRole bool
	tls, cipher                            string
}

// Probe implements engine.Session.
func (s *Session) Probe(ctx context.Context, role string) (engine.Probe, error) {
	var p engine.Probe
	var r rights
	if err := s.requireSession(ctx); err != nil {
		return p, err
	}
	err := s.conn.QueryRow(ctx, probeTarget, role).
		Scan(&p.Version, &p.Database, &p.User, &r.tls, &r.cipher, &r.readOnly, &r.mayCreate, &p.HasLedger, &r.mayWrite,
			&r.mayRole)
	if err != nil {
		return p, fmt.Errorf("read the target: %w", s.wrap(err))
	}
	pid, err := s.backend(ctx)
	if err != nil {
		return p, err
	}
	p.Look("connection", true, fmt.Sprintf("user %s reaches database %s", p.User, p.Database), "")
	encryption := "not encrypted: fine on the same machine, not across a network"
	if r.tls != "" {
		encryption = r.tls + ", " + r.cipher
	}
	p.Look("encryption", true, encryption, "")
	p.Look(
		"session", true,
		either(pid == s.conn.PgConn().PID(), "a session of its own", "through a connection pooler in session mode"),
		"",
	)
	p.Look(
		"writable", !r.readOnly,
		either(r.readOnly, "the database accepts no writes", "the database accepts writes"),
		"name the primary server in the URL, not a standby",
	)
	if p.HasLedger {
		p.Look(
			"ledger", r.mayWrite,
			"is there, "+either(r.mayWrite, "and may be written", "but user "+p.User+" may not write it"),
			fmt.Sprintf(
				"GRANT USAGE ON SCHEMA vorrang TO %[1]s; GRANT SELECT, INSERT ON vorrang.ledger TO %[1]s",
				sqltext.Identifier(p.User),
			),
		)
	} else {
		p.Look("ledger", r.mayCreate,
			either(r.mayCreate, "is not there yet, and may be created",
				"is not there, and user "+p.User+" may not create schemas"),
			fmt.Sprintf("GRANT CREATE ON DATABASE %s TO %s", sqltext.Identifier(p.Database), sqltext.Identifier(p.User)))
	}
	if role != "" {
		p.Look(
			"role", r.mayRole,
			either(r.mayRole, p.User+" may become "+role, "there is no role "+role+" that "+p.User+" may become"),
			fmt.Sprintf("GRANT %s TO %s", sqltext.Identifier(role), sqltext.Identifier(p.User)),
		)
	}
	return p, nil
}

func either(yes bool, then, otherwise string) string {
	if yes {
		return then
	}
	return otherwise
}

// backend is the server's own number of the session.
func (s *Session) backend(ctx context.Context) (uint32, error) {
	var pid uint32
	if err := s.conn.QueryRow(ctx, `SELECT pg_catalog.pg_backend_pid()`,
		pgx.QueryExecModeSimpleProtocol).Scan(&pid); err != nil {
		return 0, fmt.Errorf("ask for the session's number: %w", s.wrap(err))
	}
	return pid, nil
}

// requireSession refuses a pooler that gives every transaction another server
// session: such a session can keep no lock and no settings. A pooler is known by
// the session number that it makes up; it hands sessions around if a second
// connection is given the session that the first one still holds.
func (s *Session) requireSession(ctx context.Context) error {
	pid, err := s.backend(ctx)
	if err != nil || pid == s.conn.PgConn().PID() {
		return err
	}
	second, err := pgx.ConnectConfig(ctx, s.conn.Config())
	if err != nil {
		return diagnose(s.conn.Config(), err)
	}
	other := &Session{conn: second}
	defer other.Close()
	otherPID, err := other.backend(ctx)
	if err != nil {
		return err
	}
	if otherPID == pid {
		config := s.conn.Config()
		return &engine.ConnectError{
			Kind: engine.Pooled,
			Message: fmt.Sprintf(
				"at %s:%d answers a connection pooler in transaction mode, which can keep no lock",
				config.Host, config.Port,
			),
			Fix: "name the server itself in the URL, or a pool in session mode",
		}
	}
	return nil
}

// HasTables reports whether a database has all of some tables, which are named
// with their schemas.
func (s *Session) HasTables(ctx context.Context, tables ...string) (bool, error) {
	var has bool
	err := s.conn.QueryRow(ctx, `SELECT pg_catalog.bool_and(pg_catalog.to_regclass(t) IS NOT NULL)
		FROM pg_catalog.unnest($1::text[]) t`, tables).
		Scan(&has)
	return has, s.wrap(err)
}

// Clean implements engine.Rester.
func (s *Session) Clean() bool {
	return s.steps == nil && !s.conn.IsClosed() && s.conn.PgConn().TxStatus() == 'I'
}

// MayStay implements engine.Rester. Who renames, drops, moves or copies the database holds a lock
// on it and waits for the sessions on it to leave. Behind a pooler another one answers than did at
// the start, and what is kept in it is not there.
func (s *Session) MayStay(ctx context.Context) bool {
	var may bool
	err := s.conn.QueryRow(ctx, `SELECT pg_catalog.pg_backend_pid() = $1 AND NOT EXISTS (
		SELECT FROM pg_catalog.pg_locks l JOIN pg_catalog.pg_database d ON d.oid = l.objid
		WHERE l.locktype = 'object' AND l.database = 0 AND l.classid = 'pg_catalog.pg_database'::regclass
			AND d.datname = pg_catalog.current_database() AND l.pid <> pg_catalog.pg_backend_pid()
			AND l.mode IN ('ShareLock', 'ShareRowExclusiveLock', 'ExclusiveLock', 'AccessExclusiveLock'))`,
		s.conn.PgConn().PID()).Scan(&may)
	return err == nil && may
}
