package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

// Measurer is a session whose server tells what an open transaction holds and did.
type Measurer interface {
	// MeasureFrom notes where the server's log stands: the next footprint counts from
	// there.
	MeasureFrom(ctx context.Context) error
	// Footprint measures the steps' transaction, which must be open. Whatever its error,
	// the transaction is as it was before. Tables that the transaction makes have none:
	// nobody can wait for them.
	Footprint(ctx context.Context) (Footprint, error)
}

// Surveyor is a session whose server tells in which file each table is, so that what wrote
// a table again shows also where nothing of a step is left to ask: its statements commit
// by themselves.
type Surveyor interface {
	Survey(ctx context.Context) (Survey, error)
}

// Survey is where the tables, indexes and materialized views are, by their names.
type Survey struct {
	Relations map[string]Surveyed
	Written   int64 // how far the server's log had come, in bytes
}

// Surveyed is one of them.
type Surveyed struct {
	ID, File uint32
	Bytes    int64 // about
}

// Since is what was written again since an earlier survey. Locks are not known: each was
// given back when its statement ended.
func (s Survey) Since(before Survey) Footprint {
	f := Footprint{Tables: []TableFootprint{}, WALBytes: max(0, s.Written-before.Written)}
	for _, name := range slices.Sorted(maps.Keys(s.Relations)) {
		was, is := before.Relations[name], s.Relations[name]
		if was.ID == is.ID && was.File != is.File && was.File != 0 {
			f.Tables = append(f.Tables, TableFootprint{Table: name, Rewritten: true, Bytes: is.Bytes})
		}
	}
	return f
}

// Spiller is a scratch database whose server tells what went to temporary files there.
type Spiller interface {
	// TempBytes is how much that was since the database was made.
	TempBytes(ctx context.Context) (int64, error)
}

// Blocks is what others wait with for a lock.
type Blocks string

// What others wait with; the strongest first.
const (
	ReadsAndWrites Blocks = "reads and writes"
	Writes         Blocks = "writes"
	SchemaChanges  Blocks = "schema changes" // and VACUUM
	Nothing        Blocks = ""
)

// Stops reports whether readers or writers waited.
func (b Blocks) Stops() bool { return b == ReadsAndWrites || b == Writes }

// Footprint is what a step's transaction did to the tables that were there before.
type Footprint struct {
	Tables    []TableFootprint `json:"tables" nullable:"false" description:"Tables, indexes and views that were there before, and were locked or changed."`
	WALBytes  int64            `json:"wal_bytes" description:"What the server wrote to its log from the beginning of the step to its end, for others too."`
	TempBytes int64            `json:"temp_bytes,omitempty" description:"What it wrote to temporary files, in a rehearsal: its statements had less memory than they had use for."`
	WaitedMS  int64            `json:"waited_ms,omitempty" description:"How long its statements waited for locks, all tries together; a moment's wait is not seen."`
	Waited    []string         `json:"waited,omitempty" description:"On whom, in words."`

	Statements []StatementFootprint `json:"statements,omitempty" description:"Of a step with several statements in one transaction, up to 100 of them."`
}

// StatementFootprint is what one statement of a step did; the tables are the step's.
type StatementFootprint struct {
	Line       int   `json:"line" description:"Where it begins."`
	DurationMS int64 `json:"duration_ms"`
	Rows       int64 `json:"rows,omitempty" description:"That it changed, by the server's count."`
	WALBytes   int64 `json:"wal_bytes,omitempty" description:"What the server wrote to its log meanwhile, for others too."`
}

// TableFootprint is what a step did to one table, index or materialized view.
type TableFootprint struct {
	Table     string `json:"table"`
	Mode      string `json:"mode,omitempty" description:"The strongest lock, in the server's words; it was held until the step's transaction ended."`
	Blocks    Blocks `json:"blocks,omitempty" enum:"reads and writes,writes,schema changes" description:"What others waited with for that lock; absent where they did not wait."`
	Rewritten bool   `json:"rewritten,omitempty" description:"It has another file: all of it was written again."`
	Bytes     int64  `json:"bytes,omitempty" description:"Its size at the end of the step, with indexes; in a rehearsal that of the target's."`
	Rows      int64  `json:"rows,omitempty" description:"In a rehearsal: about how many the target's has."`
	Line      int    `json:"line,omitempty" description:"Where the statement begins that took the lock, or wrote it again."`
	HeldMS    int64  `json:"held_ms,omitempty" description:"How long a lock was held that readers or writers wait for: from the beginning of the statement that took it."`
	Writes    int64  `json:"writes_a_second,omitempty" description:"In a rehearsal: rows that others wrote to the target's in a second, from two looks."`
	Inserted  int64  `json:"inserted,omitempty"`
	Updated   int64  `json:"updated,omitempty"`
	Deleted   int64  `json:"deleted,omitempty"`
}

// String is such as "harbour.vessel: reads and writes waited, written again (96 MiB)".
func (t TableFootprint) String() string {
	var parts []string
	if t.Blocks.Stops() {
		parts = append(parts, string(t.Blocks)+" had to wait")
	}
	if t.Rewritten {
		parts = append(parts, "written again ("+humanize.IBytes(uint64(max(t.Bytes, 0)))+")")
	}
	for _, change := range []struct {
		n    int64
		what string
	}{{t.Inserted, "inserted"}, {t.Updated, "updated"}, {t.Deleted, "deleted"}} {
		if change.n > 0 {
			parts = append(parts, fmt.Sprintf("%s rows %s", humanize.Comma(change.n), change.what))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return t.Table + ": " + strings.Join(parts, ", ")
}

// Text is the footprint in a line; empty where nobody had to wait and nothing changed.
func (f Footprint) Text() string {
	var parts []string
	for _, t := range f.Tables {
		if text := t.String(); text != "" {
			parts = append(parts, text)
		}
	}
	const least = 64 << 10 // of WAL that is worth a word: others write too
	if f.WALBytes >= least {
		parts = append(parts, humanize.IBytes(uint64(f.WALBytes))+" of WAL")
	}
	if slowest := f.slowest(); slowest.DurationMS >= noticed {
		took := (time.Duration(slowest.DurationMS) * time.Millisecond).Round(10 * time.Millisecond)
		parts = append(parts, fmt.Sprintf("the statement in line %d took %s of the time", slowest.Line, took))
	}
	if f.WaitedMS > 0 {
		waited := (time.Duration(f.WaitedMS) * time.Millisecond).Round(100 * time.Millisecond)
		parts = append(parts, fmt.Sprintf("waited %s for locks, of %s", waited, strings.Join(f.Waited, "; ")))
	}
	return strings.Join(parts, "; ")
}

// noticed is how long a statement of several takes, in milliseconds, to be worth a word.
const noticed = 500

func (f Footprint) slowest() (slowest StatementFootprint) {
	for _, s := range f.Statements {
		if s.DurationMS > slowest.DurationMS {
			slowest = s
		}
	}
	return slowest
}
