package deploy

import (
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/sqltext"
)

const (
	// A step of mode batches tells how far it has come at most this often.
	batchNews = 500 * time.Millisecond
	// The planner is asked for the rest this often.
	estimateEvery = 10 * time.Second
	// A batch commits with a ledger row that says how far the step has come this
	// often, so that a crash does not forget the figure.
	checkpointEvery = time.Minute
)

// backfill is a step of mode batches under way.
type backfill struct {
	script                    // with the size of a batch in its place
	all     sqltext.Statement // as it would be for all rows at once
	started time.Time
	before  int64 // rows that earlier tries changed
	rows    int64 // of this try
	rest    int64 // the planner's estimate

	told, asked, noted time.Time
}

func (b *backfill) total() int64 { return b.before + b.rows }

func (b *backfill) detail() *ledger.Detail {
	return &ledger.Detail{Statement: 1, Of: 1, Rows: b.total()}
}

// batches repeats a script's statement, each time in a transaction of its own,
// until it changes no row. The check and the ledger's row commit with that last
// time. To be stopped between two batches loses nothing: the statement itself
// finds what is left.
func (r *run) batches(ctx context.Context, s script, started time.Time) *Failure {
	statement := s.statements[0]
	b := &backfill{
		script:  s,
		all:     statement.WithBatch(math.MaxInt64),
		started: started,
		before:  r.step.Rows,
		noted:   started,
	}
	b.statements = []sqltext.Statement{statement.WithBatch(int64(s.options.BatchSize))}
	r.estimate(ctx, b)
	if err := r.append(ctx, r.entry(ledger.Begun, s, 0, b.detail())); err != nil {
		return r.fail(s, 0, err)
	}
	for {
		rows, failure := r.batch(ctx, b)
		if failure != nil {
			return r.stopBatches(ctx, b, failure)
		}
		if rows == 0 {
			r.progress(b)
			return nil
		}
		b.rows += rows
		if now := r.Now(); now.Sub(b.told) >= batchNews {
			r.progress(b)
			b.told = now
		}
		if r.stopping() {
			f := r.fail(b.script, 0, errors.New("the service was stopped between two batches"))
			f.stopped = true
			return r.stopBatches(ctx, b, f)
		}
		r.Pause(ctx, s.options.Pause)
		r.estimate(ctx, b)
	}
}

func (r *run) progress(b *backfill) {
	rate := int64(0)
	if took := r.clock().Sub(b.started).Seconds(); took > 0 {
		rate = int64(math.Round(float64(b.rows) / took))
	}
	r.emit(Event{Kind: Batch, Rows: b.total(), Rate: rate, Rest: max(b.rest, 0)})
}

// estimate asks the planner, now and then, how many rows are left.
func (r *run) estimate(ctx context.Context, b *backfill) {
	estimator, can := r.Target.(engine.Estimator)
	now := r.Now()
	if !can || !b.asked.IsZero() && now.Sub(b.asked) < estimateEvery {
		return
	}
	b.asked = now
	if err := r.Target.Begin(ctx, r.settings(b.options)); err != nil {
		return // the batch itself will say what is wrong
	}
	var err error
	if b.rest, err = estimator.Estimate(ctx, b.all); err != nil {
		b.rest = 0
	}
	r.undo(ctx)
}

// batch runs the statement once. The time that it changes nothing, it finishes
// the step.
func (r *run) batch(ctx context.Context, b *backfill) (rows int64, failure *Failure) {
	failure = r.retry(ctx, b.script, func() (*Failure, error) {
		var f *Failure
		var err error
		rows, f, err = r.oneBatch(ctx, b)
		if f != nil {
			r.undo(ctx)
		}
		return f, err
	})
	return rows, failure
}

func (r *run) oneBatch(ctx context.Context, b *backfill) (rows int64, f *Failure, err error) {
	if err := r.Target.Begin(ctx, r.settings(b.options)); err != nil {
		return 0, r.fail(b.script, 0, err), err
	}
	rows, f, err = r.exec(ctx, b.script, 0)
	if f != nil {
		return rows, f, err
	}
	if rows == 0 {
		f, err = r.finish(ctx, b.script, b.started, &ledger.Detail{Rows: b.total()})
		return 0, f, err
	}
	b.rest -= rows
	var checkpoint []ledger.Entry
	if r.clock().Sub(b.noted) >= checkpointEvery {
		detail := b.detail()
		detail.Rows += rows
		checkpoint = append(checkpoint, r.entry(ledger.Begun, b.script, 0, detail))
	}
	if err = r.Target.Commit(ctx, checkpoint...); err != nil {
		return rows, r.failCommit(b.script, err), err
	}
	for _, entry := range checkpoint {
		r.head, b.noted = entry.Head(), r.clock()
	}
	return rows, nil, nil
}

// stopBatches notes how far a step of mode batches came.
func (r *run) stopBatches(ctx context.Context, b *backfill, f *Failure) *Failure {
	f.Partly = b.rows > 0
	f.Left = fmt.Sprintf(
		"the batches before it stay: %d rows so far; the next %s goes on from there",
		b.total(), r.again(),
	)
	r.note(ctx, b.script, f, b.started, b.detail())
	return f
}
