package review

import (
	"fmt"
	"math"
	"time"

	"github.com/dustin/go-humanize"

	"vorrang/core/schema"
	"vorrang/core/step"
)

// Figures are what a server counts of its objects, by their names as the schema has
// them. A name that is absent was not counted.
type Figures struct {
	Tables    map[string]Size
	Indexes   map[string]int64   // how often each was scanned since the server counts
	Functions map[string]int64   // how often each was called since the server counts
	Sequences map[string]float64 // how much of each is used up, from 0 to 1
	Since     string             // since when the server counts; empty where it does not say
	At        time.Time          // by the server's clock; zero where it does not say
}

// Uses are what a server had counted at some time, by the objects' names.
type Uses struct {
	Tables    map[string]int64 `json:"tables"`    // scans
	Indexes   map[string]int64 `json:"indexes"`   // scans
	Functions map[string]int64 `json:"functions"` // calls
	Since     string           `json:"since"`     // since when it counted; empty where it does not say
}

// Expanded is what was counted when a step of phase expand was applied.
type Expanded struct {
	Step step.Number
	At   time.Time
	Uses Uses
}

// Uses are what is counted so far.
func (f Figures) Uses() Uses {
	uses := Uses{Tables: map[string]int64{}, Indexes: f.Indexes, Functions: f.Functions, Since: f.Since}
	for name, size := range f.Tables {
		uses.Tables[name] = size.Reads
	}
	return uses
}

// of is what was counted of an object.
func (u Uses) of(kind schema.Kind, name string) (int64, bool) {
	switch kind {
	case schema.Index:
		return named(u.Indexes, name)
	case schema.Function:
		return named(u.Functions, name)
	case schema.Table:
		return named(u.Tables, name)
	}
	return 0, false
}

// UsesSinceExpand is how often an object was used since the last expand before a step was
// applied, and which that was; false where the server did not count all the time.
func (s Setting) UsesSinceExpand(
	before step.Number,
	kind schema.Kind,
	name string,
) (uses int64, since Expanded, known bool) {
	if s.Expanded == nil {
		return 0, since, false
	}
	for _, e := range s.Expanded() {
		if step.Compare(e.Step, before) < 0 && (since.Step == "" || step.Compare(e.Step, since.Step) >= 0) {
			since = e
		}
	}
	if since.Step == "" || since.Uses.Since != s.Figures.Since {
		return 0, since, false
	}
	now, known := s.Figures.UsesOf(kind, name)
	then, _ := since.Uses.of(kind, name) // what was made since then had no uses
	return max(0, now-then), since, known
}

// Size is how large a table is, and how it is used.
type Size struct {
	Rows  int64 // an estimate
	Bytes int64 // with indexes
	Reads int64 // scans of it since the server counts

	Writes int64 // rows inserted, updated and deleted since the server counts
}

// String is such as "about 1,200,000 rows, 96 MiB".
func (s Size) String() string {
	return fmt.Sprintf("about %s, %s", humanize.Comma(s.Rows)+" rows", humanize.IBytes(uint64(max(s.Bytes, 0))))
}

// SizeOf is what is known of a table's size. Its name may leave out the schema.
func (f Figures) SizeOf(table string) (Size, bool) { return named(f.Tables, table) }

// shortest is between two looks that tell how much is written in a second.
const shortest = time.Second

// WritesSince is how many rows of a table were written in a second since an earlier look;
// false where that is not known.
func (f Figures) WritesSince(before Figures, table string) (rows int64, known bool) {
	was, had := before.SizeOf(table)
	is, has := f.SizeOf(table)
	between := f.At.Sub(before.At)
	if !had || !has || before.At.IsZero() || between < shortest || is.Writes < was.Writes {
		return 0, false
	}
	return int64(math.Round(float64(is.Writes-was.Writes) / between.Seconds())), true
}

// UsesOf is how often a table, index or function was used since the server counts. Its
// name may leave out the schema.
func (f Figures) UsesOf(kind schema.Kind, name string) (uses int64, known bool) {
	if kind == schema.Table {
		size, known := f.SizeOf(name)
		return size.Reads, known
	}
	return Uses{Indexes: f.Indexes, Functions: f.Functions}.of(kind, name)
}

func named[V any](all map[string]V, name string) (V, bool) {
	for _, full := range []string{name, "public." + name} {
		if one, known := all[full]; known {
			return one, true
		}
	}
	for full, one := range all {
		if Short(full) == name {
			return one, true
		}
	}
	var none V
	return none, false
}

// Small is how many rows a table may have for what reads it or builds an index on it to
// be over in moments.
const Small = 10_000
