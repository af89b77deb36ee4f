package deploy

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/plural"
)

// What a deployment's context can be cancelled with (context.Cause).
var (
	ErrCancelled = errors.New("the deployment was cancelled")
	ErrStopping  = errors.New("the service was stopped")
)

// Runner runs plans. Stop, Notes, Key, Waived, Belongs, Look, Base and OnFinish may be
// empty, and so may the fields of Defaults; the others must be set.
type Runner struct {
	Target  engine.Steps
	Dialect engine.Dialect
	Texts   func(ctx context.Context, checksum step.Checksum) ([]byte, error) // normal text of a step's file
	Emit    func(Event)                                                       // called in order, one at a time; must not block for long
	Now     func() time.Time
	Pause   func(ctx context.Context, d time.Duration) // before a new try, and between batches
	Stop    <-chan struct{}                            // when closed, no further step or batch begins

	// who and where
	Deployment string
	Actor      string
	Defaults   engine.Settings // of the environment: role, and timeouts where a step gives none
	Notes      []string        // messages emitted as the first events

	Key     ledger.Key      // proves the entries; nil where nobody is to tell them from others
	Waived  []ledger.Waived // to be in the ledger with the first step
	Belongs *ledger.Owner   // to be in the first entry; nil where the ledger says it already

	// Look reads the target's schema, for the effect events; it may be nil. last is true where
	// no step follows: what it reads then is what OnFinish is given.
	Look     func(ctx context.Context, last bool) (schema.Schema, error)
	Measure  bool           // the footprint of each step, where the target can tell
	Thorough bool           // the footprint of each, whatever the measuring costs
	Base     *schema.Schema // as it is before the first step; nil to have Look read it
	// OnFinish is called before the last event, when nothing more will run; it may be nil. left is
	// the schema as it is now; nil where nobody looked since the last statement.
	OnFinish func(head ledger.Head, left *schema.Schema)
}

// Result is how a deployment ended.
type Result struct {
	Outcome Outcome
	Failure *Failure    // nil unless a step failed
	Head    ledger.Head // of the ledger, as known
}

// Run runs the actions of a plan in order, and stops at the first that
// fails. head is the ledger's newest entry, read under the target's lock. Run
// blocks until the last action ended, Stop was closed or ctx is done.
func (r *Runner) Run(ctx context.Context, head ledger.Head, p plan.Plan) Result {
	run := &run{Runner: r, head: head, began: head, started: r.Now()}
	r.Target.OnNotice(run.notice)
	run.emit(Event{Kind: Started, Direction: p.Direction, Of: len(p.Actions)})
	for _, note := range r.Notes {
		run.emit(Event{Kind: Notice, Severity: "NOTICE", Message: note})
	}
	run.effects = newEffects(run, ctx, p)
	run.measureFrom(ctx)
	outcome, failure, closing := run.plan(ctx, p)
	run.step = plan.Action{}
	run.effects.rest(ctx)
	if r.OnFinish != nil {
		r.OnFinish(run.head, run.effects.left)
	}
	run.emit(Event{Kind: Ended, Outcome: outcome, Message: closing, Of: len(p.Actions)})
	return Result{Outcome: outcome, Failure: failure, Head: run.head}
}

// run is the state of one deployment.
type run struct {
	*Runner
	head  ledger.Head
	began ledger.Head // the head at the start
	step  plan.Action // the one that is under way
	done  []plan.Action
	ahead []plan.Action // what follows it for certain, unless it fails
	next  *upcoming     // the first of these, once it was looked at

	notices int // of the step
	effects *effects
	// footprint is of the step that is under way, in its transaction; nil where it was not measured
	footprint *engine.Footprint
	surveyed  *engine.Survey // before a step whose statements commit by themselves; nil if nobody looked
	waited    waited         // of the step that is under way
	so        soFar          // what its statements did so far
	together  bool           // all steps are in one transaction
	started   time.Time
	spent     time.Duration   // at measuring
	measurer  engine.Measurer // nil where nothing is measured

	mu  sync.Mutex // events also come from the watch on locks
	seq int64
}

func (r *run) emit(e Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.seq++
	e.Seq, e.At = r.seq, r.Now().UTC()
	if r.step.Step.Number != "" {
		e.Step, e.Slug, e.Direction = r.step.Step.Number, r.step.Step.Slug, r.step.Direction
	}
	r.Emit(e)
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
		r.emit(
			Event{
				Kind:     Notice,
				Severity: "NOTICE",
				Message:  fmt.Sprintf("%d more notices of this step were left out", more),
			},
		)
	}
	r.notices = 0
}

// plan does what a plan asks for, and says in closing what that means where
// the outcome alone does not.
func (r *run) plan(ctx context.Context, p plan.Plan) (outcome Outcome, failure *Failure, closing string) {
	if p.Empties {
		failure = r.empty(ctx, p.Emptied)
	}
	switch {
	case failure != nil:
		outcome = Failed
	case p.Whole:
		outcome, failure = r.whole(ctx, p.Actions)
	default:
		outcome, failure = r.actions(ctx, p.Actions)
	}
	if ctx.Err() != nil {
		outcome = causeOf(ctx)
	}
	if outcome == Failed && p.OnFailure == plan.BackOut && !p.Whole {
		outcome, closing = r.backOut(ctx, failure)
	}
	if ctx.Err() != nil {
		outcome = causeOf(ctx)
	}
	switch {
	case closing != "":
	case outcome == Interrupted:
		closing = "the service was stopped; promote again to go on where this ended"
	case outcome == Cancelled:
		closing = context.Cause(ctx).Error() + "; what was applied before stays"
	}
	return outcome, failure, closing
}

// actions runs actions one after the other.
func (r *run) actions(ctx context.Context, actions []plan.Action) (Outcome, *Failure) {
	defer func() { r.ahead, r.next = nil, nil }()
	for i, action := range actions {
		if r.stopping() && !(r.next != nil && r.next.announced) {
			r.undo(ctx) // what is expected does not come
			return Interrupted, nil
		}
		r.step, r.ahead = action, actions[i+1:]
		if failure := r.action(ctx); failure != nil {
			if failure.stopped {
				return Interrupted, nil
			}
			return Failed, failure
		}
		r.done = append(r.done, action)
	}
	return Done, nil
}

// backOut runs the ways back of what this deployment did, newest first. A step
// of which only a part took effect comes first.
func (r *run) backOut(ctx context.Context, failure *Failure) (Outcome, string) {
	if failure.Lost {
		return Failed, "the connection is gone, so nothing was backed out; a rollback of deployment " + r.Deployment +
			" does it later"
	}
	undo := slices.Clone(r.done)
	if failure.Partly {
		partly := r.step
		partly.Half = failure.half
		undo = append(undo, partly)
	}
	if len(undo) == 0 {
		return BackedOut, "the first step failed, and left nothing to back out"
	}
	r.step = plan.Action{}
	r.emit(Event{Kind: BackingOut, Of: len(undo), Message: failure.Message})
	for _, action := range slices.Backward(undo) {
		r.step = plan.Action{Direction: ledger.Back, Step: action.Step, Half: action.Half}
		if stuck := r.action(ctx); stuck != nil {
			return Failed, fmt.Sprintf("backing out stopped at step %s: %s", action.Step.Number, stuck.Message)
		}
	}
	return BackedOut, "what this deployment had applied was reversed; the schema is as it was before"
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

// clock is a time that stands still while anything is measured, so that a step takes no longer for it.
func (r *run) clock() time.Time { return r.Now().Add(-r.spent) }

// action runs one step and tells how it ended.
func (r *run) action(ctx context.Context) *Failure {
	started := r.clock()
	r.footprint, r.waited = nil, waited{}
	script, failure := r.loaded(ctx)
	if failure == nil {
		r.emit(Event{Kind: StepBegan, Of: len(script.statements)})
		if script.options.Mode != step.Transaction {
			r.survey(ctx)
		}
		switch script.options.Mode {
		case step.Autocommit:
			failure = r.autocommit(ctx, script, started)
		case step.Batches:
			failure = r.batches(ctx, script, started)
		case step.Transaction:
			failure = r.transaction(ctx, script, started)
		}
	}
	r.endNotices()
	took := r.clock().Sub(started).Milliseconds()
	if failure != nil {
		r.effects.left = nil // what was not rolled back is not seen
		r.emit(Event{Kind: StepFailed, DurationMS: took, Message: failure.Message, Failure: failure})
		if failure.Partly {
			r.effects.of(ctx, script)
		}
		return failure
	}
	r.emit(Event{Kind: StepDone, DurationMS: took})
	r.tellFootprint(took)
	r.effects.of(ctx, script)
	return nil
}

// empty drops what is in the application's schemas, and notes in the same
// transaction which steps went with it.
func (r *run) empty(ctx context.Context, steps []plan.Step) *Failure {
	began := false
	fail := func(err error) *Failure {
		left := "nothing: the transaction was rolled back"
		if began && !r.Target.InTransaction() { // the server commits after each
			left = "what had been dropped by then is gone; a rebuild begins again"
		}
		r.undo(ctx)
		var lost *engine.LostError
		f := &Failure{
			Message: "the application's schemas could not be emptied: " + err.Error(),
			Lost:    errors.As(err, &lost),
			Left:    left,
		}
		r.emit(Event{Kind: StepFailed, Message: f.Message, Failure: f})
		return f
	}
	if err := r.Target.Begin(ctx, r.Defaults); err != nil {
		return fail(err)
	}
	began = true
	objects, err := r.Target.Empty(ctx)
	if err != nil {
		return fail(err)
	}
	head, entries := r.head, make([]ledger.Entry, len(steps))
	for i, s := range steps {
		detail := ledger.Detail{Direction: ledger.Back, Reason: "rebuild"}
		if i == 0 && r.head == r.began {
			detail.Belongs = r.Belongs
		}
		entries[i] = r.Key.Next(head, ledger.Entry{Action: ledger.RolledBack, Step: s.Number, Slug: s.Slug,
			Deployment: r.Deployment, Actor: r.Actor, Detail: detail.JSON()}, r.Now())
		head = entries[i].Head()
	}
	if err := r.Target.Commit(ctx, entries...); err != nil {
		return fail(err)
	}
	r.head = head
	r.emit(
		Event{
			Kind: Emptied,
			Message: fmt.Sprintf("%s dropped; the effect of %s went with them",
				plural.Count(objects, "object was", "objects were"), plural.Of(len(steps), "step")),
		},
	)
	if !r.effects.blind {
		r.effects.tell(ctx)
	}
	return nil
}

func (r *run) settings(o step.Options) engine.Settings { return r.Defaults.For(o) }

// entry is a ledger entry about the step that is under way.
func (r *run) entry(action ledger.Action, s script, took time.Duration, detail *ledger.Detail) ledger.Entry {
	e := ledger.Entry{Action: action, Step: r.step.Step.Number, Slug: r.step.Step.Slug, Checksum: s.checksum,
		Deployment: r.Deployment, Actor: r.Actor, DurationMS: took.Milliseconds()}
	if len(r.Waived) > 0 && len(r.done) == 0 {
		if detail == nil {
			detail = &ledger.Detail{}
		}
		detail.Waived = r.Waived
	}
	if r.Belongs != nil && r.head == r.began {
		if detail == nil {
			detail = &ledger.Detail{}
		}
		detail.Belongs = r.Belongs
	}
	if detail != nil {
		if r.step.Direction == ledger.Back {
			detail.Direction = ledger.Back
		}
		if s.options.Mode != step.Transaction {
			detail.Mode = s.options.Mode
		}
		e.Detail = detail.JSON()
	}
	return r.Key.Next(r.head, e, r.Now())
}

// append writes an entry and remembers it as the ledger's head.
func (r *run) append(ctx context.Context, e ledger.Entry) error {
	if err := r.Target.Append(ctx, e); err != nil {
		return err
	}
	r.head = e.Head()
	return nil
}

// finished is the action that a step's end is recorded with.
func (r *run) finished() ledger.Action {
	if r.step.Direction == ledger.Back {
		return ledger.RolledBack
	}
	return ledger.Applied
}
