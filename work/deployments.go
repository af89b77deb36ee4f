package work

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/safely"
	"vorrang/records"
)

// Deployments runs deployments in the background, and lets others watch.
type Deployments struct {
	*underWay
	records *records.Records
	log     *slog.Logger
	ctx     context.Context // of all deployments
	abort   context.CancelCauseFunc
	halt    chan struct{} // closed: no further step begins
	wait    sync.WaitGroup

	mu       sync.Mutex
	stopping bool
	places   map[int64]string // of the deployments that are running or being checked
}

// NewDeployments has none under way.
func NewDeployments(store *records.Records, log *slog.Logger) *Deployments {
	ctx, abort := context.WithCancelCause(context.Background())
	return &Deployments{
		underWay: newUnderWay(),
		records:  store,
		log:      log,
		ctx:      ctx,
		abort:    abort,
		halt:     make(chan struct{}),
		places:   map[int64]string{},
	}
}

// Context ends when deployments may not go on any more, some time after Stop.
func (w *Deployments) Context() context.Context { return w.ctx }

// Enter keeps Stop from returning until Leave, unless it was called already.
func (w *Deployments) Enter() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.stopping {
		w.wait.Add(1)
	}
	return !w.stopping
}

// Leave ends what a successful Enter began.
func (w *Deployments) Leave() { w.wait.Done() }

// Aside does something in the background that Stop waits for; nothing, once Stop was called.
// Its error is logged: nobody waits for it.
func (w *Deployments) Aside(what string, do func(context.Context) error) {
	if !w.Enter() {
		return
	}
	go func() {
		defer w.Leave()
		if err := safely.Do(func() error { return do(w.ctx) }); err != nil {
			w.log.Warn(what+": not all of it could be done", "error", err)
		}
	}()
}

// Stop lets running steps end within grace, and then cancels them. It blocks until
// all have ended and are kept.
func (w *Deployments) Stop(grace time.Duration) {
	w.mu.Lock()
	already := w.stopping
	w.stopping = true
	w.mu.Unlock()
	if already {
		return
	}
	close(w.halt)
	late := time.AfterFunc(grace, func() { w.abort(deploy.ErrStopping) })
	w.wait.Wait()
	late.Stop()
}

// Work is a recorded deployment with all that it takes to run it.
type Work struct {
	records.Deployment
	Session  engine.Session // holds the target's lock
	Dialect  engine.Dialect
	Defaults engine.Settings
	Schemas  []string // of the application
	Texts    func(context.Context, step.Checksum) ([]byte, error)
	Now      func() time.Time // for events
	Notes    []string         // to be told first
	Guide    Guide
	Request  string // the number of the request that began it, for the log; may be empty

	before *schema.Schema
}

// Guide is what a deployment asks of whoever began it.
type Guide interface {
	// Pass holds still what the gate depends on, until the returned function is called,
	// which may happen more than once.
	Pass(context.Context) (unlock func(), err error)
	// Confirm asks the gate for the last time.
	Confirm(ctx context.Context) (Confirmed, error)
	// Before looks at the schema right before the first step. It returns nil for a
	// schema that cannot be read, and what there is to say.
	Before(ctx context.Context, head ledger.Head) (before *schema.Schema, notes []string)
	// Left keeps the schema that a deployment left, while its lock is still held, and
	// reports whether it could. seen is that schema with its needs; nil where nobody read it yet.
	Left(head ledger.Head, seen *schema.Schema) (schema.Schema, bool)

	Began()                // it is under way
	Happened(deploy.Event) // in order, one at a time
	Changed()              // its outcome is in the records
	Ended(deploy.Result)   // nothing follows; it is called once, whatever happened
}

// Confirmed is the gate's last word.
type Confirmed struct {
	Head    ledger.Head   // of the target's ledger
	Against string        // why nothing may run; empty for nothing
	Belongs *ledger.Owner // for the ledger's next entry
}

// large reports whether there are too many steps to look at what each does.
func (d Work) large() bool { return len(d.Plan.Actions) > deploy.MostLooks }

// Settled waits until nothing of an environment's deployments that have ended is
// checked any more, but no longer than LookPatience.
func (w *Deployments) Settled(ctx context.Context, lane, environment string) {
	for deadline := time.Now().Add(LookPatience); time.Now().Before(deadline) && ctx.Err() == nil; {
		w.mu.Lock()
		busy := false
		for _, place := range w.places {
			busy = busy || place == lane+"/"+environment
		}
		w.mu.Unlock()
		if !busy {
			return
		}
		Pause(ctx, 50*time.Millisecond)
	}
}

// Run runs a recorded deployment, after Enter. It returns at once, owns the
// session from here on, and leaves at the end.
func (w *Deployments) Run(d Work) {
	ctx, live, end := w.begin(w.ctx, d.ID)
	w.mu.Lock()
	w.places[d.ID] = d.Lane + "/" + d.Environment
	w.mu.Unlock()
	go func() {
		defer w.Leave()
		result := deploy.Result{Outcome: deploy.Interrupted}
		if fault := safely.Do(func() error { result = w.deploy(ctx, d, live); return nil }); fault != nil {
			w.log.Error("a deployment's end met a fault", "deployment", d.ID, "error", fault)
			d.Session.Close()
			w.finish(d, interrupted(d, live))
			live.end()
		}
		if fault := safely.Do(func() error { d.Guide.Ended(result); return nil }); fault != nil {
			w.log.Error("what follows on a deployment met a fault", "deployment", d.ID, "error", fault)
		}
		end()
		w.mu.Lock()
		delete(w.places, d.ID)
		w.mu.Unlock()
		live.close()
	}()
}

func (w *Deployments) deploy(ctx context.Context, d Work, live *Feed) (result deploy.Result) {
	log := w.log.With("deployment", d.ID, "lane", d.Lane, "environment", d.Environment, "actor", d.Actor)
	if d.Request != "" {
		log = log.With("request", d.Request)
	}
	log.Info("deployment started", "direction", d.Direction, "steps", len(d.Plan.Actions))
	d.Guide.Began()
	keeping := make(chan struct{})
	go func() {
		defer close(keeping)
		if fault := safely.Do(func() error { w.keep(d.ID, live); return nil }); fault != nil {
			log.Error("events are not kept any more", "error", fault)
		}
	}()
	if fault := safely.Do(func() error { result = w.pass(ctx, &d, live); return nil }); fault != nil {
		log.Error("the deployment met a fault", "error", fault)
		d.Session.Close() // what was not committed is rolled back, as if the service had been killed
		result = interrupted(d, live)
	}
	live.end()
	<-keeping
	if d.large() { // nobody waits for the look at what so many steps did
		w.finish(d, result)
		w.lookBack(d, result.Head)
	}
	d.Session.Unlock()
	d.Session.Close()
	if !d.large() {
		w.finish(d, result)
	}
	if result.Failure != nil {
		log.Warn("deployment ended", "outcome", result.Outcome, "step", result.Failure.Step,
			"error", result.Failure.Error())
	} else {
		log.Info("deployment ended", "outcome", result.Outcome)
	}
	return result
}

// ended is the last event of a deployment, where no runner tells it.
func ended(d records.Deployment, seq int64, outcome deploy.Outcome, message string) deploy.Event {
	return deploy.Event{
		Seq: seq, At: time.Now().UTC(), Kind: deploy.Ended, Outcome: outcome, Of: len(d.Plan.Actions), Message: message,
	}
}

// interrupted ends a deployment that met a fault of the service's. What it did is
// in the target's ledger.
func interrupted(d Work, live *Feed) deploy.Result {
	const message = "the service met a fault while this deployment ran; the ledger says how far it came, and the same " +
		"promotion goes on from there"
	events, _ := live.all(0)
	if n := len(events); n == 0 || events[n-1].Kind != deploy.Ended {
		live.add(ended(d.Deployment, int64(n)+1, deploy.Interrupted, message))
	}
	return deploy.Result{Outcome: deploy.Interrupted}
}

// pass asks the gate for the last time, and runs the plan if it is still
// clear. The lane is locked until the first step has begun.
func (w *Deployments) pass(ctx context.Context, d *Work, live *Feed) deploy.Result {
	texts, read := readFirst(ctx, d.Plan.Texts(), d.Texts)
	defer read()
	var last Confirmed
	unlock, err := d.Guide.Pass(ctx)
	if err == nil {
		defer unlock()
		last, err = d.Guide.Confirm(ctx)
	}
	head, against := last.Head, last.Against
	if err != nil {
		against = "the gate could not be asked again before the first statement: " + err.Error()
	}
	if against != "" {
		live.add(
			deploy.Event{Seq: 1, At: time.Now().UTC(), Kind: deploy.Started, Direction: d.Direction, Of: len(d.Plan.Actions)},
		)
		live.add(ended(d.Deployment, 2, deploy.Cancelled, against+"; nothing ran"))
		return deploy.Result{
			Outcome: deploy.Cancelled,
			Failure: &deploy.Failure{Message: against, Left: "nothing: no statement had run"},
			Head:    head,
		}
	}
	before, said := d.Guide.Before(ctx, head)
	runner := deploy.Runner{
		Target: d.Session, Dialect: d.Dialect, Texts: texts, Now: d.Now, Pause: Pause, Stop: w.halt,
		Deployment: fmt.Sprint(d.ID), Actor: d.Actor, Key: w.records.LedgerKey, Defaults: d.Defaults,
		Notes: append(d.Notes, said...), Waived: waived(d.Gate), Belongs: last.Belongs, Base: before,
		Emit: func(e deploy.Event) {
			d.Guide.Happened(e)
			live.add(e)
			if e.Kind != deploy.Started && e.Kind != deploy.Notice {
				unlock()
			}
		},
	}
	d.before = before
	runner.Measure = true
	if !d.large() {
		runner.Look = func(ctx context.Context, last bool) (schema.Schema, error) {
			if last {
				return d.Session.SnapshotWithNeeds(ctx, d.Schemas)
			}
			return d.Session.Snapshot(ctx, d.Schemas)
		}
		runner.OnFinish = func(head ledger.Head, left *schema.Schema) { d.Guide.Left(head, left) }
	}
	return runner.Run(ctx, head, d.Plan)
}

// waived says in the ledger's words what was waived for a deployment.
func waived(result gate.Result) []ledger.Waived {
	var list []ledger.Waived
	for _, w := range result.Waivers {
		list = append(list, ledger.Waived{Check: string(w.Check), By: w.By, Reason: w.Reason})
	}
	return list
}

// Pause waits for d, or until ctx is done.
func Pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// LookPatience bounds one look at a target's schema.
const LookPatience = 2 * time.Minute
