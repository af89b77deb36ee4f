package engine

import (
	"context"
	"errors"

	"vorrang/core/schema"
)

// Sampler is an engine that copies some of a target's rows to a scratch database, so that
// what is tried there meets real values.
type Sampler interface {
	// Sample copies rows from a target, which is only read, in one snapshot of it, to a
	// scratch database that has the same schema and no rows. It blocks until they are
	// there, and says how many rows of which tables they are.
	Sample(ctx context.Context, from Session, to Scratch, s Sample) ([]Sampled, error)
}

// Sample says which rows are copied: so many of each table, those with the lowest and
// the highest values of keys and constrained columns, and those that foreign keys need.
type Sample struct {
	Schema schema.Schema // of the target
	Role   string        // as which the target is read; empty for its user
	Most   int           // rows of a table, beside those of the edges and of foreign keys
	// Also are queries of rows to be copied too, a few of each. They begin with SELECT 1
	// FROM the table, and only read; those that the server does not take are passed over.
	Also []string
	// Mask gives the column's made-up value for a real one. It is asked only for columns
	// that it names in Masked.
	Mask   func(dataType, value string) string
	Masked map[string]bool // columns as the schema names them, such as harbour.pilot.name
}

// MostSampled is how many rows of all tables together are copied; the service keeps in
// mind where each stands. More are ErrSampleTooLarge.
const MostSampled = 500_000

// ErrSampleTooLarge says that a sample would be more than that.
var ErrSampleTooLarge = errors.New("more than 500,000 rows would be copied in all; ask for fewer of each table, or " +
	"name a clone with rehearse-on")

// Sampled is a table of which rows were copied.
type Sampled struct {
	Table string `json:"table"`
	Rows  int64  `json:"rows"`
}

// RowReader is a scratch database whose rows can be compared with what they were before.
type RowReader interface {
	// Contents reads the rows of all tables of a schema, which is the database's.
	Contents(ctx context.Context, seen schema.Schema) (Contents, error)
}

// Contents are tables with rows, by their names.
type Contents map[string]TableContents

// TableContents is what a table holds, in a form in which the order of rows and columns
// does not matter.
type TableContents struct {
	Rows    int64
	Sum     string            // of its rows
	Columns map[string]string // a sum of the values of each
}

// Cloner is an engine that copies a database as a whole, beside it.
type Cloner interface {
	// Clone makes a scratch database with all that the URL's database holds, but without
	// a ledger. That one is only read; nobody may be connected to it meanwhile. It blocks
	// until the copy is there. role owns what steps make in it. declared is as for
	// Workshop.NewScratch.
	Clone(ctx context.Context, url, role string, declared bool) (Scratch, error)
}
