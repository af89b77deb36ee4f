package deploy

import (
	"context"
	"errors"
	"time"

	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// cleanUp is how long ending a transaction or noting a failure may take once a
// deployment is being cancelled.
const cleanUp = 10 * time.Second

// script is one file of a step, cut, with the check that follows it.
type script struct {
	options    step.Options // the mode is that of this file
	file       string
	checksum   step.Checksum
	text       []byte
	statements []sqltext.Statement
	check      *script
	forward    []sqltext.Statement // of a way back of a half-done step: what it reverses
}

// load fetches and cuts what the step under way will run.
func (r *run) load(ctx context.Context) (script, *Failure) {
	s := r.step.Step
	if r.step.Direction == ledger.Back {
		back, failure := r.cut(ctx, *s.Back)
		back.options.Mode = r.Dialect.Mode(RollbackMode(s.Options.Mode, back.statements), back.statements)
		if failure == nil && r.step.Half > 0 {
			var forward script
			forward, failure = r.cut(ctx, s.Forward)
			back.forward = forward.statements
		}
		return back, failure
	}
	main, failure := r.cut(ctx, s.Forward)
	if failure == nil && s.Check != nil {
		var check script
		check, failure = r.cut(ctx, *s.Check)
		main.check = &check
	}
	return main, failure
}

// RollbackMode is the mode in which a way back runs: that of its step, but only a
// statement with a place for :batch is repeated in batches.
func RollbackMode(mode step.Mode, back []sqltext.Statement) step.Mode {
	if mode == step.Batches && (len(back) != 1 || !back[0].HasBatch()) {
		return step.Transaction
	}
	return mode
}

func (r *run) cut(ctx context.Context, file plan.Text) (script, *Failure) {
	s := script{options: r.step.Step.Options, file: file.Name, checksum: file.Checksum}
	var err error
	if s.text, err = r.Texts(ctx, file.Checksum); err != nil {
		return s, &Failure{Step: r.step.Step.Number, File: file.Name, Line: 1, Column: 1,
			Message: "its text could not be read from the catalogue: " + err.Error()}
	}
	if s.statements, err = r.Dialect.Cut(s.text); err != nil {
		f := &Failure{Step: r.step.Step.Number, File: file.Name, Message: err.Error()}
		var place *sqltext.Error
		if errors.As(err, &place) {
			f.Line, f.Column, f.Message = place.Line, place.Column, place.Message
		}
		return s, f
	}
	s.options.Mode = r.Dialect.Mode(s.options.Mode, s.statements)
	return s, nil
}

func (r *run) fail(s script, index int, err error) *Failure {
	f := failureOf(r.step.Step.Number, s.file, s.text, s.statements[index], err)
	f.Statement, f.Of = index+1, len(s.statements)
	return f
}

// tell emits the beginning of a statement: of every one in a short script, and
// of some fifty in a long one.
func (r *run) tell(s script, index int) {
	n := len(s.statements)
	if n < 2 || (n > 50 && index%(n/50) != 0) {
		return
	}
	r.emit(Event{Kind: Statement, Statement: index + 1, Of: n, Line: s.statements[index].Line})
}

// undo ends an open transaction, also when the deployment is being cancelled. What was to
// follow does not.
func (r *run) undo(ctx context.Context) {
	r.so, r.next = soFar{}, nil
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), cleanUp)
	defer cancel()
	_ = r.Target.Rollback(ctx) // a lost connection rolls back by itself
}

// note writes down that the step failed. Where the connection is gone it
// cannot, and the ledger stays as it was.
func (r *run) note(ctx context.Context, s script, f *Failure, started time.Time, detail *ledger.Detail) {
	r.surveyed = nil
	if f.Lost {
		return
	}
	if ctx.Err() != nil {
		f.Message = context.Cause(ctx).Error() // the server only says that it was asked to stop
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), cleanUp)
	defer cancel()
	detail.Error, detail.SQLState = f.Message, f.SQLState
	if err := r.append(ctx, r.entry(ledger.Failed, s, r.clock().Sub(started), detail)); err != nil {
		r.emit(
			Event{
				Kind:     Notice,
				Severity: "WARNING",
				Message:  "the failure could not be noted in the ledger: " + err.Error(),
			},
		)
	}
}
