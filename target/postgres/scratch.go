package postgres

import (
	"context"
	"crypto/rand"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/core/engine"
	"vorrang/core/sqltext"
	"vorrang/target/postgres/grammar"
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
// a session on it. It belongs to role, where one is given. The URL's user needs
// the right to create databases; where it owns others than the URL's, or is a
// superuser, the error is engine.OwnsMore, unless somebody declared that it may. Scratch databases that
// were left behind long ago are dropped.
func NewScratch(ctx context.Context, url, role string, declared bool) (*Scratch, error) {
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
		beside: beside,
		name:   fmt.Sprintf("%s%d_%s", scratchPrefix, time.Now().Unix(), rand.Text()[:8]),
	}
	if err := s.sweep(ctx); err != nil {
		beside.Close()
		return nil, err
	}
	create := "CREATE DATABASE " + sqltext.Identifier(s.name)
	if role != "" {
		create += " OWNER " + sqltext.Identifier(role)
	}
	if err := beside.exec(ctx, create); err != nil {
		beside.Close()
		return nil, fmt.Errorf(
			"make a scratch database (the user of the target's URL needs the right to create databases: ALTER ROLE %s CREATEDB): %w",
			sqltext.Identifier(beside.conn.Config().User), err,
		)
	}
	if role != "" { // the ledger is still the user's own
		err = beside.exec(
			ctx,
			"SET ROLE "+sqltext.Identifier(role)+"; GRANT ALL ON DATABASE "+sqltext.Identifier(s.name)+" TO "+
				sqltext.Identifier(beside.conn.Config().User)+"; RESET ROLE",
		)
		if err != nil {
			s.drop()
			return nil, fmt.Errorf("make a scratch database for the role %s: %w", role, err)
		}
	}
	if s.Session, err = ConnectTo(ctx, url, "vorrangd scratch", s.name); err != nil {
		s.drop()
		return nil, err
	}
	return s, nil
}

// ownsMore looks for what the session's user could reach from another database.
func (s *Session) ownsMore(ctx context.Context) error {
	var user, others string
	var superuser bool
	err := s.conn.QueryRow(ctx, `SELECT session_user::text, r.rolsuper, coalesce((SELECT string_agg(d.datname, ', ' ORDER BY d.datname) FROM pg_catalog.pg_database d
			WHERE pg_catalog.pg_has_role(session_user, d.datdba, 'MEMBER') AND d.datname <> pg_catalog.current_database() AND d.datname NOT LIKE $1), '')
		FROM pg_catalog.pg_roles r WHERE r.rolname = session_user`, scratchPrefix+"%").
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
	if !strings.HasPrefix(name, scratchPrefix) {
		return fmt.Errorf("%s is no scratch database", name)
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

// Run carries a file's statements out: all in one transaction, or each in its
// own. An error names the statement's line.
func (s *Scratch) Run(ctx context.Context, text []byte, autocommit bool) error {
	statements, err := grammar.Cut(text)
	if err != nil {
		return err
	}
	return engine.RunScript(ctx, s, engine.Settings{Role: s.Role}, statements, autocommit)
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
