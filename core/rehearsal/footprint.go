package rehearsal

import (
	"fmt"
	"time"

	"github.com/dustin/go-humanize"

	"vorrang/core/engine"
	"vorrang/core/review"
	"vorrang/internal/plural"
)

// Estimate is how long a step will probably keep others from one of a target's tables.
type Estimate struct {
	Table  string        `json:"table"`
	Blocks engine.Blocks `json:"blocks" enum:"reads and writes,writes" description:"What would wait."`
	LowMS  int64         `json:"low_ms"`
	HighMS int64         `json:"high_ms"`
	Writes int64         `json:"writes_a_second,omitempty" description:"Rows that others wrote to it in a second while it was rehearsed."`
	Basis  string        `json:"basis" description:"What it is estimated from, in words."`
}

// String is such as "public.vessel: writes wait for 100ms to 1s, with some 40 rows to write".
func (e Estimate) String() string {
	text := fmt.Sprintf("%s: %s wait for %s to %s", e.Table, e.Blocks,
		time.Duration(e.LowMS)*time.Millisecond, time.Duration(e.HighMS)*time.Millisecond)
	if waiting := e.Writes * e.HighMS / time.Second.Milliseconds(); waiting > 0 {
		text += fmt.Sprintf(", with up to %s to write", plural.Count(int(waiting), "row", "rows"))
	}
	return text
}

// Bytes that a server writes again in a second, at the best and at the worst: rows and
// indexes of tables in memory, and of tables that are read from a slow disk. The worst is
// also how fast it reads.
const (
	fastest = 200 << 20
	slowest = 20 << 20
)

// otherwise is by how much a statement may be faster or slower on the target than on a clone
// that has all rows.
const otherwise = 3

// EstimatesOf estimates for how long others would wait for each table of a step whose
// footprint was rehearsed, on a copy that has all rows or not.
func EstimatesOf(f engine.Footprint, allRows bool) (list []Estimate) {
	var again, read int64
	for _, t := range f.Tables {
		switch {
		case t.Rewritten:
			again += t.Bytes
		case t.Blocks.Stops():
			read += t.Bytes
		}
	}
	for _, t := range f.Tables {
		if !t.Blocks.Stops() {
			continue
		}
		e := Estimate{Table: t.Table, Blocks: t.Blocks, LowMS: t.HeldMS, HighMS: t.HeldMS, Writes: t.Writes}
		held := time.Duration(t.HeldMS) * time.Millisecond
		if allRows {
			e.LowMS, e.HighMS = t.HeldMS/otherwise, max(1, t.HeldMS*otherwise)
			e.Basis = fmt.Sprintf("%s on the clone, with all rows", held)
		} else {
			second := time.Second.Milliseconds()
			e.LowMS += again * second / fastest
			e.HighMS = max(1, e.HighMS+again*second/slowest+read*second/slowest)
			e.Basis = fmt.Sprintf("%s on the copy", held)
			if again > 0 {
				e.Basis += fmt.Sprintf("; %s to write again, at %s to %s a second", humanize.IBytes(uint64(again)),
					humanize.IBytes(slowest), humanize.IBytes(fastest))
			}
			if read > 0 {
				e.Basis += fmt.Sprintf("; up to %s to read, at %s a second", humanize.IBytes(uint64(read)),
					humanize.IBytes(slowest))
			}
		}
		list = append(list, e)
	}
	return list
}

// Unlike says how a step's footprint differs from the one that was rehearsed, in words:
// tables that others waited for, or that were written again, in the one and not in the
// other, and estimates that were wrong.
func Unlike(rehearsed, measured engine.Footprint, estimates []Estimate) (list []string) {
	before, now := byTable(rehearsed), byTable(measured)
	for _, t := range measured.Tables {
		was, known := before[t.Table]
		switch {
		case t.Blocks.Stops() && (!known || was.Blocks != t.Blocks):
			list = append(list, fmt.Sprintf("%s: %s had to wait, which the rehearsal did not see", t.Table, t.Blocks))
		case t.Rewritten && !was.Rewritten:
			list = append(list, t.Table+" was written again, which the rehearsal did not see")
		}
	}
	for _, t := range rehearsed.Tables {
		is := now[t.Table]
		switch {
		case t.Blocks.Stops() && !is.Blocks.Stops():
			list = append(
				list,
				fmt.Sprintf("%s: in the rehearsal %s would have had to wait, and did not", t.Table, t.Blocks),
			)
		case t.Rewritten && !is.Rewritten:
			list = append(list, t.Table+" was not written again, as it was in the rehearsal")
		}
	}
	for _, e := range estimates {
		if held := now[e.Table].HeldMS; held > e.HighMS {
			list = append(list, fmt.Sprintf("%s: %s waited for up to %s, and %s to %s was estimated: %s", e.Table, e.Blocks,
				time.Duration(held)*time.Millisecond, time.Duration(e.LowMS)*time.Millisecond,
				time.Duration(e.HighMS)*time.Millisecond, e.Basis))
		}
	}
	return list
}

func byTable(f engine.Footprint) map[string]engine.TableFootprint {
	all := map[string]engine.TableFootprint{}
	for _, t := range f.Tables {
		all[t.Table] = t
	}
	return all
}

// Surroundings says which of the target's tables the steps would keep others from, and
// what they would write again, a line for each.
func (r Result) Surroundings() (lines []string) {
	for _, s := range r.Steps {
		if s.Footprint == nil {
			continue
		}
		for _, t := range s.Footprint.Tables {
			if !t.Blocks.Stops() && !t.Rewritten {
				continue
			}
			line := fmt.Sprintf("step %s: %s", s.Number, t.Table)
			if t.Line > 0 {
				line = fmt.Sprintf("step %s, line %d: %s", s.Number, t.Line, t.Table)
			}
			if t.Rows > 0 {
				line += fmt.Sprintf(" (%s)", review.Size{Rows: t.Rows, Bytes: t.Bytes})
			}
			switch {
			case t.Rewritten && t.Blocks.Stops():
				line += fmt.Sprintf(": %s wait while it is written again", t.Blocks)
			case t.Rewritten:
				line += ": it is written again"
			default:
				line += fmt.Sprintf(": %s wait until the step ends", t.Blocks)
			}
			lines = append(lines, line)
		}
		if s.Footprint.TempBytes > 0 {
			spilled := humanize.IBytes(uint64(s.Footprint.TempBytes))
			lines = append(lines, fmt.Sprintf("step %s: %s of temporary files, on the copy's rows", s.Number, spilled))
		}
		for _, e := range EstimatesOf(*s.Footprint, r.Cloned) {
			lines = append(lines, fmt.Sprintf("step %s: estimated: %s (%s)", s.Number, e, e.Basis))
		}
	}
	return lines
}
