package mariadb

import (
	"context"

	"vorrang/core/engine"
)

// Engine is MariaDB.
type Engine struct{}

var (
	_ engine.Engine   = Engine{}
	_ engine.Workshop = Engine{}
	_ engine.Drafter  = Engine{}
	_ engine.Session  = (*Session)(nil)
	_ engine.Watcher  = (*Session)(nil)
)

// Name implements engine.Engine.
func (Engine) Name() string { return "mariadb" }

// Traits implements engine.Engine.
func (Engine) Traits() engine.Traits {
	return engine.Traits{
		Server: "MariaDB", Tried: []int{10}, Oldest: 10, Roles: true, Scratch: true, Samples: true, Drafts: true,
	}
}

// Dialect implements engine.Engine.
func (Engine) Dialect() engine.Dialect { return language }

// Open implements engine.Engine.
func (Engine) Open(ctx context.Context, url, application string) (engine.Session, error) {
	session, err := connect(ctx, url, application, "")
	if err != nil {
		return nil, err
	}
	return session, nil
}

// KindOf implements engine.Engine.
// Source: https://mariadb.com/kb/en/mariadb-error-codes/
func (Engine) KindOf(code string) engine.Kind { return kindOf(code) }

func kindOf(code string) engine.Kind {
	switch code {
	case "1205", "1213": // a lock was not granted in time, or another went first in a deadlock
		return engine.LockTimeout
	case "1007",
		"1050", "1060", "1061", "1304", "1359", "1537", "1826",
		"4033": // a database, table, column, index, routine, trigger, event, foreign key
		return engine.Duplicate
	case "1049",
		"1051", "1054", "1091", "1146", "1305", "1360", "1539", "1176", "4031", "4089",
		"4092": // the same, and views and sequences
		return engine.Missing
	}
	return engine.Other
}
