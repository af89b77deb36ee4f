package deploy

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"time"

	"vorrang/core/evidence"
	"vorrang/core/ledger"
	"vorrang/core/sqltext"
)

// autocommit carries a script out statement by statement. Before each, a begun
// row is committed, so that a statement whose end nobody saw is known.
func (r *run) autocommit(ctx context.Context, s script, started time.Time) *Failure {
	from := max(r.step.Resume, 1)
	p := progress{script: s, started: started, from: from, at: from}
	for _, statement := range s.statements[:min(from-1, len(s.statements))] {
		p.sum.Add(statement)
	}
	p.done = p.sum.Total()
	if from > 1 && (from > len(s.statements)+1 || p.done != r.step.Done) {
		return &Failure{Step: r.step.Step.Number, File: s.file, Line: 1, Column: 1, Message: fmt.Sprintf(
			"an earlier try carried out the statements before number %d, and these were changed since; put them back as they were", from)}
	}
	if err := r.Target.Prepare(ctx, r.settings(s.options)); err != nil {
		return r.fail(s, 0, err)
	}
	for i := from - 1; i < len(s.statements); i++ {
		if failure := r.one(ctx, &p, i); failure != nil {
			return failure
		}
	}
	return r.afterLast(ctx, &p)
}

// progress is how far an autocommit script has come for good.
type progress struct {
	script
	started time.Time
	from    int         // the statement that this try began at, from 1
	at      int         // the statement to go on at if this try ends, from 1
	done    string      // checksum of the statements before it
	sum     sqltext.Sum // of all statements that ran
}

func (p *progress) detail() *ledger.Detail {
	return &ledger.Detail{Statement: p.at, Of: len(p.statements), Done: p.done}
}

// one carries out the statement with an index, in autocommit.
func (r *run) one(ctx context.Context, p *progress, i int) *Failure {
	if !r.Target.InTransaction() {
		p.at, p.done = i+1, p.sum.Total()
		if err := r.append(ctx, r.entry(ledger.Begun, p.script, 0, p.detail())); err != nil {
			return r.fail(p.script, i, err)
		}
	}
	r.tell(p.script, i)
	failure := r.retry(ctx, p.script, func() (*Failure, error) {
		_, failure, err := r.exec(ctx, p.script, i)
		if failure != nil && (r.Target.InTransaction() || !r.swept(ctx, p.statements[i], failure)) {
			err = errNoRetry
		}
		return failure, err
	})
	if failure == nil {
		p.sum.Add(p.statements[i])
		return nil
	}
	r.undo(ctx)
	return r.stopAt(ctx, p, failure)
}

// errNoRetry stands for the error of a statement that is not tried again: where
// its transaction has failed as a whole, or where a second try would only
// stumble over the remains of the first.
var errNoRetry = errors.New("no second try")

// concurrently finds the other statements whose failure may leave remains.
var concurrently = regexp.MustCompile(`(?i)\bconcurrently\b`)

// duplicate is the SQLSTATE of an object that is there already.
const duplicate = "42P07"

// swept takes away the invalid index that a concurrent build leaves when it
// fails. It returns false if something of the statement is still there.
func (r *run) swept(ctx context.Context, s sqltext.Statement, f *Failure) bool {
	index, builds := evidence.ConcurrentIndex(s)
	switch {
	case !builds:
		return !concurrently.Match(s.SQL)
	case f.Lost, f.SQLState == duplicate: // an index that was there before is not this try's
		return false
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), cleanUp)
	defer cancel()
	dropped, err := r.Target.DropInvalid(ctx, index)
	if err != nil {
		r.emit(Event{Kind: Notice, Severity: "WARNING", Message: err.Error() + "; drop it by hand before the next try"})
		return false
	}
	if dropped {
		r.emit(Event{Kind: Notice, Severity: "NOTICE", Message: fmt.Sprintf("the %s, left INVALID by the build that failed, was dropped", index)})
	}
	return true
}

// afterLast runs the check and records the step.
func (r *run) afterLast(ctx context.Context, p *progress) *Failure {
	last := len(p.statements) - 1
	if r.Target.InTransaction() {
		r.undo(ctx)
		return r.stopAt(ctx, p, r.fail(p.script, last, errors.New("the script leaves its transaction open; end it with COMMIT")))
	}
	p.at, p.done = len(p.statements)+1, p.sum.Total()
	err := r.Target.Begin(ctx, r.settings(p.options))
	if err != nil {
		return r.stopAt(ctx, p, r.fail(p.script, last, err))
	}
	failure, _ := r.finish(ctx, p.script, p.started, nil)
	if failure == nil {
		return nil
	}
	r.undo(ctx)
	return r.stopAt(ctx, p, failure)
}

// stopAt notes where an autocommit step stopped, and what it left behind.
func (r *run) stopAt(ctx context.Context, p *progress, f *Failure) *Failure {
	n := len(p.statements)
	f.Partly = p.at > p.from
	switch {
	case f.Lost:
		f.Left = fmt.Sprintf("nobody saw how statement %d of %d ended; the step is in doubt", min(p.at, n), n)
	case p.at == 1:
		f.Left = "nothing: the step's first statement failed"
	case p.at > n:
		f.Left = "all statements took effect and stay; the next promotion only runs the check again"
	default:
		f.Left = fmt.Sprintf("the statements before number %d of %d took effect and stay; the next promotion goes on there", p.at, n)
	}
	r.note(ctx, p.script, f, p.started, p.detail())
	return f
}
