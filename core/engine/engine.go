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
	// Dialect is its SQL.
	Dialect() Dialect
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
	Server         string `json:"server" description:"What people call it, such as PostgreSQL."`
	Tried          []int  `json:"tried" nullable:"false" description:"The major versions that the tests run with."`
	Oldest         int    `json:"oldest" description:"The oldest major version that is let in."`
	DDLTransaction bool   `json:"ddl_transaction" description:"Changes of the schema can be rolled back."`
	Roles          bool   `json:"roles" description:"A step can run as another role, and steps may change roles."`
	Schemas        bool   `json:"schemas" description:"A database has schemas."`
	LedgerOwner    bool   `json:"ledger_owner" description:"The ledger can have an owner of its own."`
	Yields         bool   `json:"yields" description:"A statement can give way to those who wait for it."`
	Measures       bool   `json:"measures" description:"Which tables a step locks, writes again and changes can be measured, and who waits for it."`
	Scratch        bool   `json:"scratch" description:"Databases for trials can be made."`
	Samples        bool   `json:"samples" description:"A target's rows can be copied, to rehearse with."`
	Clones         bool   `json:"clones" description:"A database can be copied as a whole, to rehearse on."`
	Drafts         bool   `json:"drafts" description:"Steps can be drafted from its schemas."`
	Scripts        bool   `json:"scripts" description:"Files can be written that are run without Vorrang."`
}

// Versions are those that the tests run with, in words.
func (t Traits) Versions() string { return strings.Trim(fmt.Sprint(t.Tried), "[]") }

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

// Traits are those of all engines, by name.
func (all Engines) Traits() map[string]Traits {
	traits := make(map[string]Traits, len(all))
	for name, e := range all {
		traits[name] = e.Traits()
	}
	return traits
}
