package deploy

import (
	"context"
	"slices"
	"time"

	"vorrang/core/engine"
)

// measureFrom begins to measure, where it is asked for and the target can tell.
func (r *run) measureFrom(ctx context.Context) {
	if measurer, can := r.Target.(engine.Measurer); can && r.Measure && measurer.MeasureFrom(ctx) == nil {
		r.measurer = measurer
	}
}

// A deployment spends this much time at measuring, and beyond that a fiftieth of its own.
// What takes long is measured whatever it costs.
const (
	spared = 100 * time.Millisecond
	share  = 50
	long   = 50 * time.Millisecond
)

// affords reports whether what took some time is measured.
func (r *run) affords(took time.Duration) bool {
	elapsed := r.Now().Sub(r.started)
	return r.Thorough || took >= long || r.spent <= spared+elapsed/share
}

// footprintNow asks for the footprint of the transaction that is open.
func (r *run) footprintNow(ctx context.Context) (engine.Footprint, bool) {
	began := r.Now()
	footprint, err := r.measurer.Footprint(ctx)
	r.spent += r.Now().Sub(began)
	return footprint, err == nil
}

// measure takes the footprint of a step that began at a time, before its transaction
// commits. What cannot be measured is not told; the step goes on.
func (r *run) measure(ctx context.Context, began time.Time) {
	r.footprint, r.surveyed = nil, nil
	if r.measurer == nil || !r.affords(r.clock().Sub(began)) {
		return
	}
	footprint, is := r.footprintNow(ctx)
	if !is {
		return
	}
	r.so.add(&footprint)
	if len(r.so.statements) > 1 {
		footprint.Statements = r.so.statements
	}
	for i := range footprint.Tables {
		t := &footprint.Tables[i]
		if since, stops := r.so.stopped[t.Table]; stops {
			t.HeldMS = max(1, r.Now().Sub(since).Milliseconds())
		}
	}
	r.footprint = &footprint
}

// soFar is what the statements of a transaction did so far, of the last try's.
type soFar struct {
	tables     map[string]engine.TableFootprint
	stopped    map[string]time.Time // since when others wait for a table
	wal        int64
	statements []engine.StatementFootprint
	since      ran // what ran since it was last measured
}

// ran is a statement that ran, or several.
type ran struct {
	line        int // 0 of several
	statements  int
	rows        int64
	began, took time.Time
}

// ran notes that a statement ran.
func (so *soFar) ran(line int, rows int64, began, now time.Time) {
	so.since.statements++
	if so.since.statements == 1 {
		so.since.line, so.since.began = line, began
	} else {
		so.since.line = 0
	}
	so.since.rows += rows
	so.since.took = now
}

// add adds what ran since it was last measured, and completes the footprint by what ran
// before.
func (so *soFar) add(f *engine.Footprint) {
	s := so.since
	so.since = ran{}
	if s.line > 0 {
		so.statements = append(so.statements, engine.StatementFootprint{
			Line: s.line, DurationMS: s.took.Sub(s.began).Milliseconds(), Rows: s.rows, WALBytes: f.WALBytes,
		})
	}
	so.wal += f.WALBytes
	f.WALBytes = so.wal
	if so.tables == nil {
		so.tables, so.stopped = map[string]engine.TableFootprint{}, map[string]time.Time{}
	}
	for i := range f.Tables {
		t := &f.Tables[i]
		before := so.tables[t.Table]
		if t.Line = before.Line; t.Line == 0 || t.Mode != before.Mode || t.Rewritten != before.Rewritten {
			t.Line = s.line
		}
		if t.Blocks.Stops() && so.stopped[t.Table].IsZero() {
			so.stopped[t.Table] = s.began
		}
		so.tables[t.Table] = *t
	}
}

// mostEach is up to how many statements of a step each is measured.
const mostEach = 100

// between takes the footprint after a statement, so that it can be told which it was. That
// of the last one is the step's.
func (r *run) between(ctx context.Context, s script, index int, rows int64, began time.Time) {
	if r.measurer == nil {
		return
	}
	now := r.Now()
	r.so.ran(s.statements[index].Line, rows, began, now)
	if r.together || len(s.statements) > mostEach || index == len(s.statements)-1 || !r.affords(now.Sub(began)) {
		return
	}
	if footprint, is := r.footprintNow(ctx); is {
		r.so.add(&footprint)
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

// survey notes where the tables are, for a step whose statements commit by themselves. What
// was noted after the step before it is still so.
func (r *run) survey(ctx context.Context) {
	if r.surveyed == nil && r.Measure && r.affords(0) {
		r.surveyed = r.surveyNow(ctx)
	}
}

func (r *run) surveyNow(ctx context.Context) *engine.Survey {
	surveyor, can := r.Target.(engine.Surveyor)
	if !can {
		return nil
	}
	began := r.Now()
	seen, err := surveyor.Survey(ctx)
	r.spent += r.Now().Sub(began)
	if err != nil {
		return nil
	}
	return &seen
}

// resurvey takes the footprint of such a step, which began at a time.
func (r *run) resurvey(ctx context.Context, began time.Time) {
	before := r.surveyed
	r.footprint, r.surveyed = nil, nil
	if before == nil || !r.affords(r.clock().Sub(began)) {
		return
	}
	if r.surveyed = r.surveyNow(ctx); r.surveyed != nil {
		footprint := r.surveyed.Since(*before)
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
