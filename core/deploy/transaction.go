package deploy

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
)

// leaves says what a failed transaction leaves; whose names it.
func (f *Failure) leaves(whose string) {
	f.Left = "nothing: " + whose + " was rolled back"
	switch {
	case f.ended:
		f.Left = "what the script had done when it ended " + whose + " itself: that stays, unless it was rolled back " +
			"there; compare the target before you try again"
	case f.Lost:
		f.Left = "the server rolls an unfinished transaction back by itself; the ledger says what took effect"
	}
}

// transaction runs a script in one transaction, with its check and its
// ledger row.
func (r *run) transaction(ctx context.Context, s script, started time.Time) *Failure {
	failure := r.retry(ctx, s, func() (*Failure, error) {
		failure, err := r.attempt(ctx, s, started)
		if failure != nil {
			r.undo(ctx)
			failure.leaves("the step's transaction")
		}
		return failure, err
	})
	if failure != nil && ctx.Err() == nil {
		r.note(ctx, s, failure, started, &ledger.Detail{Statement: 1, Of: len(s.statements)})
	}
	return failure
}

func (r *run) attempt(ctx context.Context, s script, started time.Time) (*Failure, error) {
	r.so = soFar{}
	if err := r.Target.Begin(ctx, r.settings(s.options)); err != nil {
		return r.fail(s, 0, err), err
	}
	if failure, err := r.statements(ctx, s); failure != nil {
		return failure, err
	}
	return r.finish(ctx, s, started, nil)
}

// statements runs all statements of a script in the transaction that is open.
func (r *run) statements(ctx context.Context, s script) (*Failure, error) {
	for i := range s.statements {
		r.tell(s, i)
		began := r.Now()
		rows, failure, err := r.exec(ctx, s, i)
		if failure != nil {
			return failure, err
		}
		r.between(ctx, s, i, rows, began)
	}
	return nil, nil
}

// finish runs the check and commits, in the transaction that is open.
func (r *run) finish(ctx context.Context, s script, started time.Time, detail *ledger.Detail) (*Failure, error) {
	if failure, err := r.verify(ctx, s); failure != nil {
		return failure, err
	}
	if detail == nil && s.options.Mode != step.Transaction {
		detail = &ledger.Detail{}
	}
	if s.options.Mode == step.Transaction { // else statements have committed by themselves
		r.measure(ctx, started)
	} else {
		r.resurvey(ctx, started)
	}
	entries := []ledger.Entry{r.entry(r.finished(), s, r.clock().Sub(started), detail)}
	if r.next != nil && r.next.announced {
		entries = append(entries, r.begunNext(entries[0].Head()))
	} else {
		r.expect(ctx)
	}
	if err := r.Target.Commit(ctx, entries...); err != nil {
		return r.failCommit(s, err), err
	}
	r.head = entries[len(entries)-1].Head()
	return nil, nil
}

func (r *run) failCommit(s script, err error) *Failure {
	var refused *engine.LedgerError
	if errors.As(err, &refused) { // no statement of the script is to blame
		return &Failure{Step: r.step.Step.Number, File: s.file, Message: refused.Error()}
	}
	f := r.fail(s, len(s.statements)-1, err)
	if !f.Lost {
		f.Message = "at the end of the step's transaction: " + f.Message
	}
	return f
}

// verify makes sure that the transaction is still open, and that the check
// holds in it.
func (r *run) verify(ctx context.Context, s script) (*Failure, error) {
	if !r.Target.InTransaction() {
		err := &engine.EndedError{}
		return r.fail(s, len(s.statements)-1, err), err
	}
	if s.check == nil {
		return nil, nil
	}
	for i, query := range s.check.statements {
		holds, got, err := r.Target.Holds(ctx, query)
		if err == nil && !holds {
			err = fmt.Errorf(
				"the check does not hold: it gave %s, and must give one row with true in every column",
				got,
			)
		}
		if err != nil {
			return r.fail(*s.check, i, err), err
		}
	}
	return nil, nil
}

// whole runs all actions in one transaction, each with its own
// settings. Their ledger rows commit with it.
func (r *run) whole(ctx context.Context, actions []plan.Action) (Outcome, *Failure) {
	if len(actions) == 0 {
		return Done, nil
	}
	r.together = true
	scripts := make([]script, len(actions))
	for i, action := range actions {
		r.step = action
		var failure *Failure
		if scripts[i], failure = r.load(ctx); failure != nil {
			r.emit(Event{Kind: StepFailed, Message: failure.Message, Failure: failure})
			return Failed, failure
		}
	}
	head, started, last := r.head, r.clock(), scripts[0]
	var durations []time.Duration
	failure := r.retry(ctx, scripts[0], func() (*Failure, error) {
		r.head, durations = head, nil
		for i, action := range actions {
			r.step, last = action, scripts[i]
			began := r.clock()
			r.emit(Event{Kind: StepBegan, Of: len(last.statements)})
			failure, err := r.part(ctx, last, i, len(actions), began)
			r.endNotices()
			if failure != nil {
				r.undo(ctx)
				r.head = head
				return failure, err
			}
			durations = append(durations, r.clock().Sub(began))
			r.emit(Event{Kind: StepReady, DurationMS: durations[i].Milliseconds()})
		}
		return nil, nil
	})
	if failure != nil {
		failure.leaves("the transaction of the whole deployment")
		if ctx.Err() == nil {
			r.note(ctx, last, failure, started, &ledger.Detail{Statement: 1, Of: len(last.statements)})
		}
		r.emit(Event{Kind: StepFailed, Message: failure.Message, Failure: failure})
		return Failed, failure
	}
	for i, action := range actions {
		r.step = action
		r.emit(Event{Kind: StepDone, DurationMS: durations[i].Milliseconds()})
	}
	r.step = plan.Action{} // the footprint is that of all of them
	r.tellFootprint(0)
	return Done, nil
}

// part runs the action with an index, of several in one transaction.
func (r *run) part(ctx context.Context, s script, index, of int, began time.Time) (*Failure, error) {
	begin := r.Target.Prepare
	if index == 0 {
		begin = r.Target.Begin
	}
	if err := begin(ctx, r.settings(s.options)); err != nil {
		return r.fail(s, 0, err), err
	}
	if failure, err := r.statements(ctx, s); failure != nil {
		return failure, err
	}
	if index == of-1 {
		return r.finish(ctx, s, began, nil)
	}
	if failure, err := r.verify(ctx, s); failure != nil {
		return failure, err
	}
	entry := r.entry(r.finished(), s, r.clock().Sub(began), nil)
	if err := r.Target.Write(ctx, entry); err != nil {
		return r.failCommit(s, err), err
	}
	r.head = entry.Head()
	return nil, nil
}
