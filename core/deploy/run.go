package deploy

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
)

// What a deployment's context can be cancelled with (context.Cause).
var (
	ErrCancelled = errors.New("somebody cancelled the deployment")
	ErrStopping  = errors.New("the service was stopped")
)

// Runner carries plans out. All fields but Stop must be set.
type Runner struct {
	Target Target
	Texts  func(ctx context.Context, checksum step.Checksum) ([]byte, error) // normal text of a step's file
	Emit   func(Event)                                                       // called in order; must not block for long
	Now    func() time.Time
	Pause  func(ctx context.Context, d time.Duration) // before a new try
	Stop   <-chan struct{}                            // when closed, no further step begins

	// who and where
	Deployment string
	Actor      string
	Defaults   Settings // of the environment: role, and timeouts where a step gives none
}

// Result is how a deployment ended.
type Result struct {
	Outcome Outcome
	Failure *Failure    // nil unless a step failed
	Head    ledger.Head // of the ledger, as far as is known
}

// Run carries out the actions of a plan in order, and stops at the first that
// fails. head is the ledger's newest entry, read under the target's lock. Run
// blocks until the last action ended, Stop was closed or ctx is done.
func (r *Runner) Run(ctx context.Context, head ledger.Head, p plan.Plan) Result {
	run := &run{Runner: r, head: head}
	r.Target.OnNotice(run.notice)
	run.emit(Event{Kind: Started, Direction: p.Direction, Of: len(p.Actions)})
	outcome, failure := run.actions(ctx, p.Actions)
	run.step = plan.Action{}
	run.emit(Event{Kind: Ended, Outcome: outcome, Message: closing(outcome, ctx), Of: len(p.Actions)})
	return Result{Outcome: outcome, Failure: failure, Head: run.head}
}

// mostNotices is how many of the server's notices are passed on for one step; a
// loop that raises a million of them must not fill the service's memory.
const mostNotices = 200

func (r *run) notice(severity, message string) {
	if r.notices++; r.notices <= mostNotices {
		r.emit(Event{Kind: Notice, Severity: severity, Message: message})
	}
}

// endNotices says how many notices of a step were left out.
func (r *run) endNotices() {
	if more := r.notices - mostNotices; more > 0 {
		r.emit(Event{Kind: Notice, Severity: "NOTICE", Message: fmt.Sprintf("%d more notices of this step were left out", more)})
	}
	r.notices = 0
}

func closing(outcome Outcome, ctx context.Context) string {
	switch outcome {
	case Interrupted:
		return "the service was stopped; promote again to go on where this ended"
	case Cancelled:
		return context.Cause(ctx).Error() + "; what was applied before stays"
	case Running, Done, Failed, BackedOut:
	}
	return ""
}

// run is the state of one deployment.
type run struct {
	*Runner
	head ledger.Head
	seq  int64
	step plan.Action // the one that is under way

	notices int // of the step
}

func (r *run) emit(e Event) {
	r.seq++
	e.Seq, e.At = r.seq, r.Now().UTC()
	if r.step.Step.Number != "" {
		e.Step, e.Slug, e.Direction = r.step.Step.Number, r.step.Step.Slug, r.step.Direction
	}
	r.Emit(e)
}

func (r *run) actions(ctx context.Context, actions []plan.Action) (Outcome, *Failure) {
	for _, action := range actions {
		if r.stopping() {
			return Interrupted, nil
		}
		r.step = action
		failure := r.action(ctx)
		if ctx.Err() != nil {
			return causeOf(ctx), failure
		}
		if failure != nil {
			return Failed, failure
		}
	}
	return Done, nil
}

func (r *run) stopping() bool {
	select {
	case <-r.Stop:
		return true
	default:
		return false
	}
}

func causeOf(ctx context.Context) Outcome {
	if errors.Is(context.Cause(ctx), ErrCancelled) {
		return Cancelled
	}
	return Interrupted
}

// action carries one step out and tells how it ended.
func (r *run) action(ctx context.Context) *Failure {
	started := r.Now()
	script, failure := r.load(ctx)
	if failure == nil {
		r.emit(Event{Kind: StepBegan, Of: len(script.statements)})
		if script.options.Mode == step.Autocommit {
			failure = r.autocommit(ctx, script, started)
		} else {
			failure = r.transaction(ctx, script, started)
		}
	}
	r.endNotices()
	took := r.Now().Sub(started).Milliseconds()
	if failure != nil {
		r.emit(Event{Kind: StepFailed, DurationMS: took, Message: failure.Message, Failure: failure})
		return failure
	}
	r.emit(Event{Kind: StepDone, DurationMS: took})
	return nil
}

func (r *run) settings(o step.Options) Settings {
	s := r.Defaults
	if o.LockTimeout != nil {
		s.LockTimeout = *o.LockTimeout
	}
	if o.StatementTimeout != nil {
		s.StatementTimeout = *o.StatementTimeout
	}
	return s
}

// lockPause is how long to wait before try n+1 after a lock timeout.
func lockPause(n int) time.Duration {
	return min(time.Second<<(n-1), 30*time.Second)
}

// retry runs try again after lock timeouts, as often as the step allows.
func (r *run) retry(ctx context.Context, s script, try func() (*Failure, error)) *Failure {
	for n := 1; ; n++ {
		failure, err := try()
		var server *ServerError
		locked := errors.As(err, &server) && server.SQLState == lockNotAvailable
		if failure == nil || !locked || n > s.options.Retries || ctx.Err() != nil {
			return failure
		}
		pause := lockPause(n)
		r.emit(Event{Kind: Waiting, Statement: failure.Statement, Of: failure.Of, Line: failure.Line,
			Message: fmt.Sprintf("a lock was not granted within %s; others go first, try %d of %d follows in %s",
				r.settings(s.options).LockTimeout, n+1, s.options.Retries+1, pause)})
		r.Pause(ctx, pause)
	}
}

// entry is a ledger entry about the step that is under way.
func (r *run) entry(action ledger.Action, s script, took time.Duration, detail *ledger.Detail) ledger.Entry {
	e := ledger.Entry{Action: action, Step: r.step.Step.Number, Slug: r.step.Step.Slug, Checksum: s.checksum,
		Deployment: r.Deployment, Actor: r.Actor, DurationMS: took.Milliseconds()}
	if detail != nil {
		if r.step.Direction == ledger.Back {
			detail.Direction = ledger.Back
		}
		if s.options.Mode != step.Transaction {
			detail.Mode = s.options.Mode
		}
		e.Detail = detail.JSON()
	}
	return r.head.Next(e, r.Now())
}

// finished is the action that a step's end is recorded with.
func (r *run) finished() ledger.Action {
	if r.step.Direction == ledger.Back {
		return ledger.RolledBack
	}
	return ledger.Applied
}
