package deploy

import (
	"context"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
)

// upcoming is the step that follows the one under way at once.
type upcoming struct {
	action    plan.Action
	script    script
	announced bool     // its begun row is committed together with the end of the one before it
	before    []string // of one that is announced: what of its first statement's objects is there
}

// upcoming looks what follows the step under way at once; nil where anything stands between
// the two, or something is wrong of which its own turn tells.
func (r *run) upcoming(ctx context.Context) *upcoming {
	watched := !r.effects.blind && r.effects.steps
	if watched || len(r.ahead) == 0 || r.stopping() || ctx.Err() != nil {
		return nil
	}
	under := r.step
	defer func() { r.step = under }()
	r.step = r.ahead[0]
	s, failure := r.load(ctx)
	if failure != nil {
		return nil
	}
	return &upcoming{action: r.step, script: s}
}

// announce looks whether the step after the one under way is announced with the end of it:
// what is small spends most of its time at commits. It is not where the catalogs could not
// tell afterwards whether its first statement ran: who is killed between the two leaves a step
// that has begun, and nobody is to be asked about that.
func (r *run) announce(ctx context.Context) {
	r.next = r.upcoming(ctx)
	next := r.next
	first := len(r.done) == 0 // its rows say what was waived
	if first || next == nil || next.script.options.Mode != step.Autocommit || next.action.Resume > 1 ||
		next.action.Half > 0 || !r.Dialect.Whole(next.script.statements[0]) {
		return
	}
	var err error
	next.before, err = r.before(ctx, next.script, 0)
	next.announced = err == nil
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

// expect tells the session which transaction follows the one that is to be committed, where
// it can make use of that.
func (r *run) expect(ctx context.Context) {
	if r.next == nil {
		r.next = r.upcoming(ctx)
	}
	expecter, can := r.Target.(engine.Expecter)
	if can && r.next != nil && r.next.script.options.Mode == step.Transaction {
		expecter.Expect(r.settings(r.next.script.options))
	}
}

// loaded is what the step under way will run.
func (r *run) loaded(ctx context.Context) (script, *Failure) {
	next := r.next
	if next == nil {
		return r.load(ctx)
	}
	if !next.announced {
		r.next = nil
	}
	return next.script, nil
}
