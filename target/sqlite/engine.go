package sqlite

import (
	"context"
	"strings"

	"vorrang/core/engine"
)

// Engine is SQLite.
type Engine struct {
	// Folder holds the files that may be opened, and nothing outside it is. Where it
	// is empty, none is.
	Folder string
}

var (
	_ engine.Engine   = Engine{}
	_ engine.Workshop = Engine{}
	_ engine.Drafter  = Engine{}
	_ engine.Session  = (*Session)(nil)
)

// Name implements engine.Engine.
func (Engine) Name() string { return "sqlite" }

// Traits implements engine.Engine.
func (Engine) Traits() engine.Traits {
	return engine.Traits{
		Server:         "SQLite",
		Tried:          []int{3},
		Oldest:         3,
		DDLTransaction: true,
		Scratch:        true,
		Samples:        true,
		Clones:         true,
		Drafts:         true,
	}
}

// Dialect implements engine.Engine.
func (Engine) Dialect() engine.Dialect { return language }

// Open implements engine.Engine. The URL is sqlite:PATH, where a path that does not
// begin with / is one within the engine's folder; ?foreign_keys=on has SQLite hold
// foreign keys while a step runs.
func (e Engine) Open(ctx context.Context, url, application string) (engine.Session, error) {
	at, err := e.find(url)
	if err != nil {
		return nil, err
	}
	session, err := open(ctx, at, application)
	if err != nil {
		return nil, err
	}
	return session, nil
}

// KindOf implements engine.Engine.
func (Engine) KindOf(code string) engine.Kind {
	switch {
	case code == "SQLITE_BUSY", code == "SQLITE_LOCKED":
		return engine.LockTimeout
	case strings.HasSuffix(code, alreadyThere):
		return engine.Duplicate
	case strings.HasSuffix(code, notThere):
		return engine.Missing
	}
	return engine.Other
}
