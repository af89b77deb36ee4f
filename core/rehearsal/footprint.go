package rehearsal

import (
	"fmt"
	"time"

	"github.com/dustin/go-humanize"

	"vorrang/core/engine"
	"vorrang/core/review"
)

// Estimate is how long a step will probably keep others from a target's tables.
type Estimate struct {
	LowMS  int64  `json:"low_ms"`
	HighMS int64  `json:"high_ms"`
	Basis  string `json:"basis" description:"What it is estimated from, in words."`
}

// String is such as "100ms to 1s".
func (e Estimate) String() string {
	return fmt.Sprintf("%s to %s", time.Duration(e.LowMS)*time.Millisecond, time.Duration(e.HighMS)*time.Millisecond)
}

// Bytes that a server writes again in a second, at the best and at the worst: rows and
// indexes of tables in memory, and of tables that are read from a slow disk.
const (
	fastest = 200 << 20
	slowest = 20 << 20
)

// EstimateOf estimates a step of which a footprint was rehearsed; false where nothing was
// written again, so that what it keeps others from depends on what its statements read.
func EstimateOf(f engine.Footprint) (Estimate, bool) {
	var bytes int64
	for _, t := range f.Tables {
		if t.Rewritten {
			bytes += t.Bytes
		}
	}
	if bytes == 0 {
		return Estimate{}, false
	}
	second := time.Second.Milliseconds()
	return Estimate{
		LowMS: bytes * second / fastest, HighMS: max(1, bytes*second/slowest),
		Basis: fmt.Sprintf("%s to write again, at %s to %s a second",
			humanize.IBytes(uint64(bytes)), humanize.IBytes(slowest), humanize.IBytes(fastest)),
	}, true
}

// Unlike says how a step's footprint differs from the one that was rehearsed, in words:
// tables that others waited for, or that were written again, in the one and not in the
// other, and an estimate that was wrong.
func Unlike(rehearsed, measured engine.Footprint, took time.Duration) (list []string) {
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
	if e, is := EstimateOf(rehearsed); is && took.Milliseconds() > e.HighMS {
		list = append(list, fmt.Sprintf("it took %s, and %s was estimated: %s", took.Round(time.Millisecond), e, e.Basis))
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
		if e, is := EstimateOf(*s.Footprint); is {
			lines = append(lines, fmt.Sprintf("step %s: about %s in all, for %s", s.Number, e, e.Basis))
		}
	}
	return lines
}
