package deploy

import (
	"context"
	"slices"
	"time"

	"vorrang/core/engine"
)

// measureFrom begins to measure, where somebody wants to know and the target can tell.
func (r *run) measureFrom(ctx context.Context) {
	if measurer, can := r.Target.(engine.Measurer); can && r.Measure && measurer.MeasureFrom(ctx) == nil {
		r.measurer = measurer
	}
}

// measure takes the footprint of the transaction that is open, before it commits. What
// cannot be measured is not told; the step goes on.
func (r *run) measure(ctx context.Context, line int) {
	if r.footprint = nil; r.measurer == nil {
		return
	}
	if footprint, err := r.measurer.Footprint(ctx); err == nil {
		r.so.add(&footprint, line)
		r.footprint = &footprint
	}
}

// soFar is what the statements of a transaction did so far, of the last try's.
type soFar struct {
	tables map[string]engine.TableFootprint
	wal    int64
}

// add adds what a statement did that begins in a line, and completes the footprint by what
// those before it did.
func (so *soFar) add(f *engine.Footprint, line int) {
	so.wal += f.WALBytes
	f.WALBytes = so.wal
	if so.tables == nil {
		so.tables = map[string]engine.TableFootprint{}
	}
	for i := range f.Tables {
		t := &f.Tables[i]
		before := so.tables[t.Table]
		if t.Line = before.Line; t.Line == 0 || t.Mode != before.Mode || t.Rewritten != before.Rewritten {
			t.Line = line
		}
		so.tables[t.Table] = *t
	}
}

// mostEach is up to how many statements of a step each is measured.
const mostEach = 100

// between takes the footprint after a statement, where somebody wants to know which it was.
func (r *run) between(ctx context.Context, s script, index int) {
	if !r.Each || r.measurer == nil || len(s.statements) > mostEach || index == len(s.statements)-1 {
		return
	}
	if footprint, err := r.measurer.Footprint(ctx); err == nil {
		r.so.add(&footprint, s.statements[index].Line)
	}
}

// waited is how long the statements of a step waited for locks, and on whom.
type waited struct {
	time time.Duration
	on   []string
}

// add adds what a statement waited.
func (w *waited) add(more time.Duration, on []engine.Blocker) {
	w.time += more
	for _, one := range on {
		if words := one.String(); !slices.Contains(w.on, words) && len(w.on) < mostWaited {
			w.on = append(w.on, words)
		}
	}
}

// mostWaited is how many sessions are named that a step waited for.
const mostWaited = 5

// survey notes where the tables are, for a step whose statements commit by themselves.
func (r *run) survey(ctx context.Context) {
	r.surveyed = nil
	if surveyor, can := r.Target.(engine.Surveyor); can && r.Measure {
		if seen, err := surveyor.Survey(ctx); err == nil {
			r.surveyed = &seen
		}
	}
}

// resurvey takes the footprint of such a step.
func (r *run) resurvey(ctx context.Context) {
	if r.surveyed == nil {
		return
	}
	if seen, err := r.Target.(engine.Surveyor).Survey(ctx); err == nil {
		footprint := seen.Since(*r.surveyed)
		r.footprint = &footprint
	}
}

// tellFootprint tells what the step that was done did to its surroundings.
func (r *run) tellFootprint(tookMS int64) {
	if r.footprint == nil {
		return
	}
	r.footprint.WaitedMS, r.footprint.Waited = r.waited.time.Milliseconds(), r.waited.on
	if len(r.footprint.Tables) > 0 || r.footprint.WaitedMS > 0 { // else it touched nothing that was there
		r.emit(Event{Kind: Measured, DurationMS: tookMS, Footprint: r.footprint, Message: r.footprint.Text()})
	}
}
