package postgres

import (
	"context"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/target/postgres/drafting"
	"vorrang/target/postgres/standalone"
)

// Engine is PostgreSQL.
type Engine struct{}

var (
	_ engine.Engine   = Engine{}
	_ engine.Workshop = Engine{}
	_ engine.Scripts  = Engine{}
	_ engine.Drafter  = Engine{}

	_ engine.Session   = (*Session)(nil)
	_ engine.Estimator = (*Session)(nil)
	_ engine.Watcher   = (*Session)(nil)
	_ engine.Sweeper   = (*Session)(nil)
	_ engine.Copier    = (*Session)(nil)
	_ engine.Owned     = (*Session)(nil)
)

// Name implements engine.Engine.
func (Engine) Name() string { return "postgresql" }

// Traits implements engine.Engine.
func (Engine) Traits() engine.Traits {
	return engine.Traits{
		Server:         "PostgreSQL",
		Tried:          []int{15},
		Oldest:         12,
		DDLTransaction: true,
		Roles:          true,
		Schemas:        true,
		LedgerOwner:    true,
		Measures:       true, Yields: true,
		Scratch: true,
		Samples: true,
		Clones:  true,
		Drafts:  true,
		Scripts: true,
	}
}

// Open implements engine.Engine.
func (Engine) Open(ctx context.Context, url, application string) (engine.Session, error) {
	session, err := Connect(ctx, url, application)
	if err != nil {
		return nil, err // and no session that is a nil in an interface
	}
	return session, nil
}

// KindOf implements engine.Engine.
func (Engine) KindOf(code string) engine.Kind { return kindOf(code) }

// kindOf knows the SQLSTATEs on which anybody decides.
//
// Source: https://www.postgresql.org/docs/15/errcodes-appendix.html
func kindOf(code string) engine.Kind {
	switch code {
	case "57014": // query_canceled
		return engine.Cancelled
	case "55P03":
		return engine.LockTimeout
	case "42P06",
		"42P07", "42701", "42723",
		"42710": // a schema, a table or index, a column, a function, another object
		return engine.Duplicate
	case "3F000", "42P01", "42703", "42883", "42704": // the same
		return engine.Missing
	}
	return engine.Other
}

// NewScratch implements engine.Workshop.
func (Engine) NewScratch(ctx context.Context, url, role string, declared bool) (engine.Scratch, error) {
	scratch, err := NewScratch(ctx, url, role, declared)
	if err != nil {
		return nil, err
	}
	return scratch, nil
}

// Dialect implements engine.Engine.
func (Engine) Dialect() engine.Dialect { return dialect{} }

// Draft implements engine.Drafter.
func (Engine) Draft(is, should schema.Schema, style schema.Style) schema.Script {
	return drafting.Draft(is, should, style)
}

// Script implements engine.Scripts.
func (Engine) Script(f engine.File) ([]byte, error) {
	file := standalone.File{File: f, LockKey: lockKey}
	if f.MakeLedger {
		file.CreateLedger = createLedger
	}
	return file.Text()
}
