package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/core/engine"
	"vorrang/core/sqltext"
	"vorrang/target/postgres/grammar"
	"vorrang/target/postgres/review"
)

const scratchPrefix = "vorrang_scratch_"

// Scratch is an empty database beside a target, for trials.
type Scratch struct {
	*Session
	Role   string   // that Run takes; empty for the URL's user
	beside *Session // on the URL's database; nil where nobody may be connected to that
	url    string
	name   string
}

// NewScratch makes a scratch database on the server that a URL names, and opens
// a session on it. It belongs to role, where one is given. The URL's user needs
// the right to create databases; where it owns others than the URL's, or is a
// superuser, the error is engine.OwnsMore, unless the lane declares that it may. Scratch databases that
// were left behind long ago are dropped.
func NewScratch(ctx context.Context, url, role string, declared bool) (*Scratch, error) {
	s, err := besides(ctx, url, role, declared)
	if err != nil {
		return nil, err
	}
	if err := s.beside.exec(ctx, s.create("")); err != nil {
		s.beside.Close()
		return nil, fmt.Errorf(
			"make a scratch database (the user of the target's URL needs the right to create databases: ALTER ROLE %s "+
				"CREATEDB): %w",
			sqltext.Identifier(s.beside.conn.Config().User), err,
		)
	}
	if err := s.admit(ctx); err != nil {
		s.drop()
		return nil, err
	}
	return s, nil
}

// besides is a scratch database that is not made yet. Those that were left behind long
// ago go first.
func besides(ctx context.Context, url, role string, declared bool) (*Scratch, error) {
	beside, err := Connect(ctx, url, "vorrangd scratch")
	if err != nil {
		return nil, err
	}
	if !declared {
		if err := beside.ownsMore(ctx); err != nil {
			beside.Close()
			return nil, err
		}
	}
	s := &Scratch{
		Role:   role,
		url:    url,
		beside: beside,
	}
	if err := s.sweep(ctx); err != nil {
		beside.Close()
		return nil, err
	}
	return s, nil
}

// create is the statement that makes the database, as more says. It has a new name.
func (s *Scratch) create(more string) string {
	s.name = engine.ScratchName(scratchPrefix, time.Now())
	create := "CREATE DATABASE " + sqltext.Identifier(s.name) + more
	if s.Role != "" {
		create += " OWNER " + sqltext.Identifier(s.Role)
	}
	return create
}

// admit lets the URL's user into a database that belongs to a role, and opens a session
// on it.
func (s *Scratch) admit(ctx context.Context) (err error) {
	// who finds it is told what it is
	mark := "COMMENT ON DATABASE " + sqltext.Identifier(s.name) + " IS " + sqltext.Literal(engine.ScratchMark)
	if s.Role == "" {
		err = s.beside.exec(ctx, mark)
	} else { // the ledger is still the user's own
		err = s.beside.exec(
			ctx,
			"SET ROLE "+sqltext.Identifier(s.Role)+"; "+mark+"; GRANT ALL ON DATABASE "+sqltext.Identifier(s.name)+" TO "+
				sqltext.Identifier(s.beside.conn.Config().User)+"; RESET ROLE",
		)
	}
	if err != nil {
		return fmt.Errorf("make a scratch database for %s: %w", cmp.Or(s.Role, s.beside.conn.Config().User), err)
	}
	if s.Session, err = ConnectTo(ctx, s.url, "vorrangd scratch", s.name); err == nil {
		s.looksOften = true
	}
	return err
}

// clonePatience is how long the sessions of others on a clone are waited for: those of
// other rehearsals that begin, above all.
const clonePatience = 30 * time.Second

// inUse is object_in_use.
const inUse = "55006"

// Clone implements engine.Cloner. No session stays on the database that is copied, so
// that the next copy can be made of it.
//
// Source: https://www.postgresql.org/docs/current/manage-ag-templatedbs.html
func (Engine) Clone(ctx context.Context, url, role string, declared bool) (engine.Scratch, error) {
	s, err := besides(ctx, url, role, declared)
	if err != nil {
		return nil, err
	}
	for late := time.Now().Add(clonePatience); ; {
		if err = s.copyOf(ctx, s.beside.conn.Config().Database); err == nil {
			break
		}
		// who waits leaves the clone: the server copies it only while nobody else is there
		s.beside.Close()
		var refused *engine.ServerError
		switch copying := errors.Is(err, errCopying); {
		case copying: // which may take long, but ends
			late = time.Now().Add(clonePatience)
		case errors.As(err, &refused) && refused.SQLState == inUse && time.Now().Before(late):
		default:
			return nil, fmt.Errorf(
				"copy the clone %s (its user needs the right to create databases, and to own the clone; nobody else may be "+
					"connected to it): %w",
				s.beside.conn.Config().Database, err,
			)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(clonePatience / 60):
		}
		if s.beside, err = Connect(ctx, url, "vorrangd scratch"); err != nil {
			return nil, err
		}
	}
	if err = s.admit(ctx); err == nil {
		err = s.exec(ctx, "DROP SCHEMA IF EXISTS "+ledgerSchema+" CASCADE")
	}
	s.beside.Close()
	s.beside = nil
	if err != nil {
		if s.Session != nil {
			s.Session.Close()
		}
		s.drop()
		return nil, fmt.Errorf("make the clone's copy ready: %w", err)
	}
	return s, nil
}

// errCopying is who finds another one at making a copy.
var errCopying = errors.New("another copy is being made of it")

// copyOf makes the database as a copy of the clone that the session is on. One at a time:
// two that wait there for each other to leave would both wait in vain.
func (s *Scratch) copyOf(ctx context.Context, clone string) error {
	var free bool
	err := s.beside.conn.QueryRow(ctx,
		"SELECT pg_catalog.pg_try_advisory_lock(pg_catalog.hashtext('vorrang clone'))").Scan(&free)
	switch {
	case err != nil:
		return s.beside.wrap(err)
	case !free:
		return errCopying
	}
	return s.beside.exec(ctx, s.create(" TEMPLATE "+sqltext.Identifier(clone)))
}

// ownsMore looks for what the session's user could reach from another database.
func (s *Session) ownsMore(ctx context.Context) error {
	var user, others string
	var superuser bool
	err := s.conn.QueryRow(ctx, `SELECT session_user::text, r.rolsuper, coalesce((SELECT string_agg(d.datname, ', '
		ORDER BY d.datname) FROM pg_catalog.pg_database d
			WHERE pg_catalog.pg_has_role(session_user, d.datdba, 'MEMBER') AND d.datname <> pg_catalog.current_database()
		AND d.datname !~ $1), '')
		FROM pg_catalog.pg_roles r WHERE r.rolname = session_user`, "^"+scratchPrefix+"[0-9]+_").
		Scan(&user, &superuser, &others)
	switch {
	case err != nil:
		return fmt.Errorf("look what the user owns: %w", err)
	case superuser:
		return &engine.OwnsMore{User: user, What: "is a superuser there"}
	case others != "":
		return &engine.OwnsMore{User: user, What: "owns other databases there: " + others}
	}
	return nil
}

// Name implements engine.Scratch.
func (s *Scratch) Name() string { return s.name }

// DropScratch implements engine.Workshop.
func (Engine) DropScratch(ctx context.Context, url, name string) error {
	if _, is := engine.ScratchMade(scratchPrefix, name); !is {
		return fmt.Errorf("%s is not a scratch database", name)
	}
	beside, err := Connect(ctx, url, "vorrangd scratch")
	if err != nil {
		return err
	}
	defer beside.Close()
	return beside.wrap(beside.exec(ctx, "DROP DATABASE IF EXISTS "+sqltext.Identifier(name)+" WITH (FORCE)"))
}

// Close drops the database.
func (s *Scratch) Close() {
	s.Session.Close()
	s.drop()
}

// Run runs a file's statements: all in one transaction, or each in its
// own. An error names the statement's line.
func (s *Scratch) Run(ctx context.Context, text []byte, autocommit bool) error {
	statements, err := grammar.Cut(text)
	if err != nil {
		return err
	}
	if why := review.Leaves(text); why != "" { // a copy's triggers and functions would run it later
		return fmt.Errorf("it is not run in a scratch database, whose server holds others: %s", why)
	}
	return engine.RunScript(ctx, s, engine.Settings{Role: s.Role}, statements, autocommit)
}

func (s *Scratch) drop() {
	ctx, cancel := context.WithTimeout(context.Background(), 10*cancelGrace)
	defer cancel()
	if s.beside == nil {
		_ = Engine{}.DropScratch(ctx, s.url, s.name) // the next start finds what stays
		return
	}
	_ = s.beside.exec(ctx, "DROP DATABASE IF EXISTS "+sqltext.Identifier(s.name)) // the next sweep finds what stays
	s.beside.Close()
}

func (s *Scratch) sweep(ctx context.Context) error {
	rows, err := s.beside.conn.Query(ctx, `SELECT datname FROM pg_catalog.pg_database d
		WHERE datname LIKE 'vorrang\_scratch\_%' AND pg_catalog.pg_has_role(datdba, 'USAGE')
			AND NOT EXISTS (SELECT FROM pg_catalog.pg_stat_activity a WHERE a.datid = d.oid)`)
	if err != nil {
		return fmt.Errorf("look for old scratch databases: %w", s.beside.wrap(err))
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return fmt.Errorf("look for old scratch databases: %w", s.beside.wrap(err))
	}
	for _, name := range names {
		if engine.ScratchLeft(scratchPrefix, name, time.Now()) {
			_ = s.beside.exec(ctx, "DROP DATABASE IF EXISTS "+sqltext.Identifier(name)) // another session may be connected
		}
	}
	return nil
}
