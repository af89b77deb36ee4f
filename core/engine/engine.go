package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Engine is a kind of database server.
type Engine interface {
	// Name is the one that a lane file gives after engine:, such as postgresql.
	Name() string
	// Traits says what differs between servers.
	Traits() Traits
	// Open connects to the target that a URL names. application is shown in the
	// server's list of sessions. It blocks until the server answers or ctx ends;
	// its error is a *ConnectError, or says why the session could not be set up.
	Open(ctx context.Context, url, application string) (Session, error)
	// KindOf is the kind of the server's error with a code, as ServerError has it;
	// Other for one that nobody decides on.
	KindOf(code string) Kind
}

// Traits is what an engine has, and what its servers do. An option or a setting
// that needs what an engine has not is refused where it is written.
type Traits struct {
	Server         string // what it is called by people: PostgreSQL
	Tried          []int  // the major versions that the tests run with
	Oldest         int    // the oldest major version that is let in
	DDLTransaction bool   // changes of the schema can be rolled back
	Roles          bool   // a step can run as another role
	Schemas        bool   // a database has schemas
	LedgerOwner    bool   // the ledger can have an owner of its own
}

// Engines are those that a service has, by name.
type Engines map[string]Engine

// Of lists engines by their names.
func Of(engines ...Engine) Engines {
	all := Engines{}
	for _, e := range engines {
		all[e.Name()] = e
	}
	return all
}

// Named is the engine with a name; its error lists those that there are.
func (all Engines) Named(name string) (Engine, error) {
	if e, known := all[name]; known {
		return e, nil
	}
	return nil, fmt.Errorf("this service has no engine %q; it has %s", name, strings.Join(all.Names(), ", "))
}

// Names are sorted.
func (all Engines) Names() []string { return slices.Sorted(maps.Keys(all)) }
