package deploy

import (
	"context"

	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
)

// announced is a step whose begun row is committed together with the end of the one before
// it: what is small spends most of its time at commits.
type announced struct {
	action plan.Action
	script script
	before []string // what of its first statement's objects is there
}

// announce looks whether the step after the one under way is announced with the end of it.
// It is not where anything stands between the two, nor where the catalogs could not tell
// afterwards whether its first statement ran: who is killed between the two leaves a step
// that has begun, and nobody is to be asked about that.
func (r *run) announce(ctx context.Context) {
	watched := !r.effects.blind && r.effects.steps
	if watched || len(r.ahead) == 0 || len(r.done) == 0 || r.stopping() || ctx.Err() != nil {
		return
	}
	under, next := r.step, announced{action: r.ahead[0]}
	defer func() { r.step = under }()
	if next.action.Resume > 1 || next.action.Half > 0 {
		return
	}
	r.step = next.action
	var failure *Failure
	if next.script, failure = r.load(ctx); failure != nil { // its own turn tells
		return
	}
	if next.script.options.Mode != step.Autocommit || !r.Dialect.Whole(next.script.statements[0]) {
		return
	}
	var err error
	if next.before, err = r.before(ctx, next.script, 0); err == nil {
		r.next = &next
	}
}

// begunNext is the begun row of the step that was announced, after the ledger's newest entry.
func (r *run) begunNext(after ledger.Head) ledger.Entry {
	under, head := r.step, r.head
	defer func() { r.step, r.head = under, head }()
	r.step, r.head = r.next.action, after
	first := progress{script: r.next.script, at: 1}
	first.done = first.sum.Total()
	detail := first.detail()
	detail.Before = r.next.before
	return r.entry(ledger.Begun, r.next.script, 0, detail)
}

// loaded is what the step under way will run.
func (r *run) loaded(ctx context.Context) (script, *Failure) {
	if r.next != nil {
		return r.next.script, nil
	}
	return r.load(ctx)
}
