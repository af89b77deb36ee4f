package service

import (
	"context"
	"fmt"
	"sync"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/safely"
	"vorrang/records"
	"vorrang/service/api"
)

// workers carries deployments out in the background, and lets others watch.
type workers struct {
	service *Service
	ctx     context.Context // of all deployments
	abort   context.CancelCauseFunc
	halt    chan struct{} // closed: no further step begins
	wait    sync.WaitGroup

	mu       sync.Mutex
	stopping bool
	feeds    map[int64]*feed
	places   map[int64]string // of the deployments that are under way or still looked at
	cancels  map[int64]context.CancelCauseFunc
}

func newWorkers(s *Service) *workers {
	ctx, abort := context.WithCancelCause(context.Background())
	return &workers{service: s, ctx: ctx, abort: abort, halt: make(chan struct{}), feeds: map[int64]*feed{}, places: map[int64]string{},
		cancels: map[int64]context.CancelCauseFunc{}}
}

// enter keeps the service from stopping until leave, unless it stops already.
func (w *workers) enter() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.stopping {
		w.wait.Add(1)
	}
	return !w.stopping
}

func (w *workers) leave() { w.wait.Done() }

// stop lets running steps end within grace, and then cancels them.
func (w *workers) stop(grace time.Duration) {
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

// feed returns the live events of a running deployment, or nil.
func (w *workers) feed(id int64) *feed {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.feeds[id]
}

// work is a recorded deployment with all that it takes to carry it out.
type work struct {
	records.Deployment
	place   targetContext
	session engine.Session // holds the target's lock
	request deploymentRequest
	said    []string      // what was settled before
	belongs *ledger.Owner // for the ledger's next entry

	// the schema right before the first step, and what it should have been then;
	// nil where that could not be seen
	before   *schema.Schema
	expected *schema.Schema
}

// large reports whether there are too many steps to look at what each does.
func (d work) large() bool { return len(d.Plan.Actions) > deploy.MostLooks }

// settled waits until nothing of an environment's deployments that have ended is
// looked at any more.
func (w *workers) settled(ctx context.Context, lane, environment string) {
	for deadline := time.Now().Add(snapshotPatience); time.Now().Before(deadline) && ctx.Err() == nil; {
		w.mu.Lock()
		busy := false
		for _, place := range w.places {
			busy = busy || place == lane+"/"+environment
		}
		w.mu.Unlock()
		if !busy {
			return
		}
		pause(ctx, 50*time.Millisecond)
	}
}

// run carries a recorded deployment out, after enter. It owns the session from
// here on, and leaves at the end.
func (w *workers) run(d work) {
	live := newFeed()
	ctx, cancel := context.WithCancelCause(w.ctx)
	w.mu.Lock()
	w.feeds[d.ID], w.cancels[d.ID], w.places[d.ID] = live, cancel, d.Lane+"/"+d.Environment
	w.mu.Unlock()
	gauge := w.service.metrics.running.WithLabelValues(d.Lane, d.Environment)
	gauge.Inc()
	go func() {
		defer w.leave()
		defer gauge.Dec()
		if fault := safely.Do(func() error { w.carryOut(ctx, d, live); return nil }); fault != nil {
			w.service.Log.Error("a deployment's end met a fault", "deployment", d.ID, "error", fault)
			d.session.Close()
			w.finish(d.Deployment, interrupted(d, live))
			live.end()
		}
		w.mu.Lock()
		delete(w.feeds, d.ID)
		delete(w.cancels, d.ID)
		delete(w.places, d.ID)
		w.mu.Unlock()
		cancel(nil)
		live.close()
	}()
}

// cancel stops a running deployment: its statement is cancelled, its step
// rolled back. It returns false if the deployment is not running here.
func (w *workers) cancel(id int64, why error) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	cancel, running := w.cancels[id]
	if running {
		cancel(why)
	}
	return running
}

func (w *workers) carryOut(ctx context.Context, d work, live *feed) {
	s := w.service
	log := s.Log.With("deployment", d.ID, "lane", d.Lane, "environment", d.Environment, "actor", d.Actor)
	s.looking.changed()
	log.Info("deployment started", "direction", d.Direction, "steps", len(d.Plan.Actions))
	s.tellOf(d.Deployment, api.EventStarted, "")
	keeping := make(chan struct{})
	go func() {
		defer close(keeping)
		if fault := safely.Do(func() error { w.keep(d.ID, live); return nil }); fault != nil {
			log.Error("events are not kept any more", "error", fault)
		}
	}()
	var result deploy.Result
	if fault := safely.Do(func() error { result = w.pass(ctx, &d, live); return nil }); fault != nil {
		log.Error("the deployment met a fault", "error", fault)
		d.session.Close() // what was not committed is rolled back, as if the service had been killed
		result = interrupted(d, live)
	}
	live.end()
	<-keeping
	if d.large() { // nobody waits for the look at what so many steps did
		w.finish(d.Deployment, result)
		w.lookBack(d, result.Head)
	}
	d.session.Unlock()
	d.session.Close()
	if !d.large() {
		w.finish(d.Deployment, result)
	}
	s.metrics.deployments.WithLabelValues(d.Lane, d.Environment, string(result.Outcome)).Inc()
	if result.Failure != nil {
		log.Warn("deployment ended", "outcome", result.Outcome, "step", result.Failure.Step, "error", result.Failure.Error())
		s.tellOf(d.Deployment, api.EventFailed, result.Failure.Error())
		return
	}
	log.Info("deployment ended", "outcome", result.Outcome)
	happened := api.EventFailed
	if result.Outcome == deploy.Done {
		happened = api.EventDone
	}
	s.tellOf(d.Deployment, happened, string(result.Outcome))
}

// interrupted ends a deployment that met a fault of the service's. What it did is
// in the target's ledger.
func interrupted(d work, live *feed) deploy.Result {
	const message = "the service met a fault while this deployment ran; the ledger says how far it came, and the same promotion goes on from there"
	events, _ := live.after(0)
	if n := len(events); n == 0 || events[n-1].Kind != deploy.Ended {
		live.add(deploy.Event{Seq: int64(n) + 1, At: time.Now().UTC(), Kind: deploy.Ended, Outcome: deploy.Interrupted, Of: len(d.Plan.Actions), Message: message})
	}
	return deploy.Result{Outcome: deploy.Interrupted}
}

// pass asks the gate for the last time, and carries the plan out if it is still
// clear. The lane is locked until the first step has begun.
func (w *workers) pass(ctx context.Context, d *work, live *feed) deploy.Result {
	s := w.service
	unlock := s.laneLocks.pass(d.Lane)
	defer unlock()
	head, against, err := s.confirm(ctx, d)
	if err != nil {
		against = "the gate could not be asked again before the first statement: " + err.Error()
	}
	if against != "" {
		now := time.Now().UTC()
		live.add(deploy.Event{Seq: 1, At: now, Kind: deploy.Started, Direction: d.Direction, Of: len(d.Plan.Actions)})
		live.add(deploy.Event{Seq: 2, At: now, Kind: deploy.Ended, Outcome: deploy.Cancelled, Of: len(d.Plan.Actions), Message: against + "; nothing ran"})
		return deploy.Result{Outcome: deploy.Cancelled, Failure: &deploy.Failure{Message: against, Left: "nothing: no statement had run"}, Head: head}
	}
	d.said = append(d.said, s.lookBefore(ctx, d, head)...)
	runner := deploy.Runner{
		Target: d.session, Dialect: d.place.dialect(), Texts: s.texts(d.Plan), Now: s.now, Pause: pause, Stop: w.halt,
		Deployment: fmt.Sprint(d.ID), Actor: d.Actor, Key: s.Records.LedgerKey, Defaults: defaults(d.place), Notes: d.said, Waived: waived(d.Gate), Belongs: d.belongs, Base: d.before,
		Emit: func(e deploy.Event) {
			s.metrics.step(d.Lane, d.Environment, e)
			live.add(e)
			if e.Kind != deploy.Started && e.Kind != deploy.Notice {
				unlock()
			}
		},
	}
	if !d.large() {
		runner.Look = func(ctx context.Context) (schema.Schema, error) {
			return d.session.Snapshot(ctx, d.place.environment.Schemas)
		}
		runner.OnFinish = func(head ledger.Head) { w.keepSchema(*d, head) }
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

func defaults(p targetContext) engine.Settings {
	settings := engine.Settings{Role: p.environment.Role, LockTimeout: step.DefaultLockTimeout}
	if p.environment.LockTimeout != nil {
		settings.LockTimeout = *p.environment.LockTimeout
	}
	if p.environment.StatementTimeout != nil {
		settings.StatementTimeout = *p.environment.StatementTimeout
	}
	return settings
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// recordsPatience is how long a deployment's end waits for records that are
// away.
const recordsPatience = 2 * time.Minute

// insist repeats work on the records until it succeeds: a deployment outlives a
// short absence of them.
func (w *workers) insist(what string, work func(context.Context) error) {
	deadline := time.Now().Add(recordsPatience)
	for {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		err := work(ctx)
		cancel()
		if err == nil {
			return
		}
		if time.Now().After(deadline) || w.ctx.Err() != nil {
			w.service.Log.Error(what+" could not be kept; the target's ledger has what matters", "error", err)
			return
		}
		w.service.Log.Warn(what+" could not be kept yet", "error", err)
		pause(w.ctx, time.Second)
	}
}

// keepEvery is how long events may wait to be kept together.
const keepEvery = 250 * time.Millisecond

// keep writes a deployment's events into the records until the feed ends.
func (w *workers) keep(id int64, live *feed) {
	for after := int64(0); ; {
		events, ended := live.after(after)
		if len(events) > 0 {
			w.insist("events", func(ctx context.Context) error { return w.service.Records.AddEvents(ctx, id, events) })
			after = events[len(events)-1].Seq
		}
		if ended {
			return
		}
		live.waitFor(after, nil)
		live.waitEnd(keepEvery) // so that events are kept together
	}
}

func (w *workers) finish(d records.Deployment, result deploy.Result) {
	defer w.service.looking.changed()
	if result.Head.Seq > 0 {
		w.insist("the ledger's head", func(ctx context.Context) error {
			return w.service.Records.KeepHead(ctx, d.Lane, d.Environment, result.Head)
		})
	}
	w.insist("the outcome", func(ctx context.Context) error {
		return w.service.Records.End(ctx, d.ID, result.Outcome, result.Failure)
	})
}

// closeOrphans ends the deployments that a killed service left running. What
// they did is in the targets' ledgers.
func (w *workers) closeOrphans(ctx context.Context) error {
	orphans, err := w.service.Records.Orphans(ctx)
	if err != nil {
		return err
	}
	for _, d := range orphans {
		last, err := w.service.Records.LastSeq(ctx, d.ID)
		if err != nil {
			return err
		}
		event := deploy.Event{Seq: last + 1, At: time.Now().UTC(), Kind: deploy.Ended, Outcome: deploy.Interrupted, Of: len(d.Plan.Actions),
			Message: "the service ended while this deployment ran; the ledger says how far it came, and the same promotion goes on from there"}
		if err := w.service.Records.AddEvents(ctx, d.ID, []deploy.Event{event}); err != nil {
			return err
		}
		if err := w.service.Records.End(ctx, d.ID, deploy.Interrupted, nil); err != nil {
			return err
		}
		w.service.Log.Warn("deployment was interrupted", "deployment", d.ID, "lane", d.Lane, "environment", d.Environment)
	}
	return nil
}

// texts reads the texts of a plan ahead, since a question for every one of a
// thousand small steps would cost more than the steps.
func (s *Service) texts(p plan.Plan) func(context.Context, step.Checksum) ([]byte, error) {
	order := wanted(p)
	ahead := map[step.Checksum][]byte{}
	next := 0
	return func(ctx context.Context, checksum step.Checksum) ([]byte, error) {
		if text, have := ahead[checksum]; have {
			delete(ahead, checksum)
			return text, nil
		}
		sizes, err := s.Records.Sizes(ctx, order[next:min(next+readAhead, len(order))])
		if err != nil {
			return nil, err
		}
		var batch []step.Checksum
		total := int64(0)
		for ; next < len(order) && len(batch) < readAhead; next++ {
			if total += sizes[order[next]]; total > readAheadBytes && len(batch) > 0 {
				break
			}
			batch = append(batch, order[next])
		}
		if ahead, err = s.Records.Texts(ctx, batch); err != nil {
			return nil, err
		}
		text, have := ahead[checksum]
		if !have {
			return s.Records.Text(ctx, checksum)
		}
		delete(ahead, checksum)
		return text, nil
	}
}

const (
	readAhead      = 200     // texts
	readAheadBytes = 1 << 20 // together
)

// wanted lists the texts of a plan in the order in which they are asked for.
func wanted(p plan.Plan) []step.Checksum {
	var order []step.Checksum
	for _, a := range p.Actions {
		if a.Direction == ledger.Back {
			order = append(order, a.Step.Back.Checksum)
			if a.Half > 0 {
				order = append(order, a.Step.Forward.Checksum)
			}
			continue
		}
		order = append(order, a.Step.Forward.Checksum)
		if a.Step.Check != nil {
			order = append(order, a.Step.Check.Checksum)
		}
	}
	return order
}
