package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/plan"
	"vorrang/internal/plural"
	"vorrang/internal/safely"
	"vorrang/records"
)

// Fleets runs this service's deployments to fleets: a deployment to each target, in waves.
type Fleets struct {
	*Deployments
	// Parts is told which deployment to a fleet begins here, or goes on, and gives what begins its
	// part at a target.
	Parts func(records.FleetDeployment, []records.FleetTarget) func(ctx context.Context, target string) Part
	// Told is told how one ended.
	Told func(records.FleetDeployment, deploy.Outcome, string)

	mu   sync.Mutex
	runs map[int64]chan records.FleetDeployment // what somebody said to those that run here
}

// Part is how the part of a deployment to a fleet began at a target.
type Part struct {
	Ended      <-chan deploy.Result // gives how its deployment ended; nil where none began
	Deployment int64
	Stand      plan.Stand // where none began; Waiting has it begun again elsewhere
	Message    string     // why, where none began
}

// NewFleets has none under way.
func NewFleets(running *Deployments) *Fleets {
	return &Fleets{Deployments: running, runs: map[int64]chan records.FleetDeployment{}}
}

// partOver is what became of a target's part.
type partOver struct {
	target  string
	stand   plan.Stand
	message string
}

// Say tells a deployment to a fleet what somebody said to it; false if it does not run here.
func (w *Fleets) Say(f records.FleetDeployment) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	run, here := w.runs[f.ID]
	if here {
		select {
		case run <- f:
		default: // it has not yet read what was said before; it is said again in the next round
		}
	}
	return here
}

// Run runs a recorded deployment to a fleet in the background, unless it runs here. It goes on
// where it was.
func (w *Fleets) Run(f records.FleetDeployment, targets []records.FleetTarget) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if _, here := w.runs[f.ID]; here || !w.Enter() {
		return
	}
	said := make(chan records.FleetDeployment, 1)
	w.runs[f.ID] = said
	go func() {
		defer w.Leave()
		if fault := safely.Do(func() error { w.run(f, targets, said); return nil }); fault != nil {
			w.log.Error("a deployment to a fleet met a fault", "fleet", f.ID, "error", fault)
		}
		w.mu.Lock()
		delete(w.runs, f.ID)
		w.mu.Unlock()
	}()
}

// fleetRun is a deployment to a fleet that runs here.
type fleetRun struct {
	*Fleets
	f     records.FleetDeployment
	how   plan.Fleet
	begin func(context.Context, string) Part
	over  chan partOver // of those that are under way
	under int           // how many those are

	stopping bool // this service is: what is left is done elsewhere, or at the next start
	lost     bool // another service runs it by now

	mu     sync.Mutex
	parts  map[string]int64 // the deployments that run, by target
	ending error            // why all of them are to end; nil where they are not
}

// run is the whole life of one, or what is left of it.
func (w *Fleets) run(f records.FleetDeployment, targets []records.FleetTarget, said <-chan records.FleetDeployment) {
	log := w.log.With("fleet", f.ID, "lane", f.Lane, "environment", f.Environment, "actor", f.Actor)
	log.Info("deployment to a fleet runs here", "direction", f.Direction, "targets", len(targets))
	r := &fleetRun{
		Fleets: w, f: f, how: standOf(f, targets), begin: w.Parts(f, targets), over: make(chan partOver), parts: map[string]int64{},
	}
	for _, t := range targets {
		if t.Stand == plan.Underway { // it was begun by a service that is gone
			r.follow(func() partOver { return w.outcomeOf(t) })
		}
	}
	r.hear(f)
	for halted := w.halt; ; {
		next, end := r.next()
		if end {
			break
		}
		for _, target := range next {
			r.how.Stands[target] = plan.Underway
			r.follow(func() partOver { return r.part(target) })
		}
		select {
		case <-halted:
			r.stopping, halted = true, nil
		case now := <-said:
			r.hear(now)
		case one := <-r.over:
			r.ended(one)
		}
	}
	if r.stopping || r.lost {
		log.Info("deployment to a fleet goes on elsewhere, or at the next start")
		return
	}
	outcome, message := ends(r.f, r.how)
	err := w.insist("how a deployment to a fleet ended", func(ctx context.Context) error {
		return w.records.EndFleet(ctx, f.ID, outcome, message)
	})
	if err == nil {
		w.Told(f, outcome, message)
	}
	log.Info("deployment to a fleet ended", "outcome", outcome, "message", message)
}

// next says which targets begin now, and whether nothing more happens here.
func (r *fleetRun) next() (begin []string, end bool) {
	if r.stopping || r.lost {
		return nil, r.under == 0
	}
	return r.how.Next()
}

// follow waits aside for what becomes of a target.
func (r *fleetRun) follow(wait func() partOver) {
	r.under++
	go func() { r.over <- wait() }()
}

// hear does what somebody said.
func (r *fleetRun) hear(now records.FleetDeployment) {
	r.how.Paused = now.Paused != nil
	if now.Cancel == nil || r.how.Ending {
		return
	}
	r.how.Ending, r.f.Cancel = true, now.Cancel
	r.mu.Lock()
	defer r.mu.Unlock()
	r.ending = fmt.Errorf("%w by %s, with the deployment to the fleet", deploy.ErrCancelled, *now.Cancel)
	for _, id := range r.parts {
		r.Cancel(id, r.ending)
	}
}

// ended keeps what became of a target.
func (r *fleetRun) ended(one partOver) {
	r.under--
	if one.stand == plan.Cancelled && r.f.Cancel == nil { // the gate closed before the first statement
		one.stand = plan.Held
	}
	r.how.Stands[one.target] = one.stand
	if r.stopping && one.stand == plan.Unclear {
		return // whoever goes on with it reads how its deployment ended
	}
	err := r.insist("what became of a target", func(ctx context.Context) error {
		return r.records.EndFleetTarget(ctx, r.f.ID, one.target, one.stand, one.message)
	})
	var taken records.TakenOverError
	r.lost = r.lost || errors.As(err, &taken)
}

// part is one target's part, from its beginning to its end.
func (r *fleetRun) part(target string) partOver {
	began := Part{Stand: plan.Unclear, Message: "the service met a fault; its log has the place"}
	if fault := safely.Do(func() error { began = r.begin(r.ctx, target); return nil }); fault != nil {
		r.log.Error("the part of a target met a fault", "fleet", r.f.ID, "target", target, "error", fault)
	}
	if began.Ended == nil {
		return partOver{target, began.Stand, began.Message}
	}
	r.mu.Lock()
	if r.parts[target] = began.Deployment; r.ending != nil {
		r.Cancel(began.Deployment, r.ending)
	}
	r.mu.Unlock()
	result := <-began.Ended
	r.mu.Lock()
	delete(r.parts, target)
	r.mu.Unlock()
	return overBy(target, result.Outcome, result.Failure)
}

// standOf is how a deployment stands, as the records say.
func standOf(f records.FleetDeployment, targets []records.FleetTarget) plan.Fleet {
	how := plan.Fleet{
		Canary: f.Waves.Canary > 0, AtOnce: f.Waves.AtOnce, Tolerate: f.Waves.Tolerate, Stands: map[string]plan.Stand{},
	}
	for _, t := range targets {
		if t.Wave == 0 {
			if t.Stand.Exception() {
				how.Before++
			}
			continue
		}
		for len(how.Waves) < t.Wave {
			how.Waves = append(how.Waves, nil)
		}
		how.Waves[t.Wave-1] = append(how.Waves[t.Wave-1], t.Target)
		how.Stands[t.Target] = t.Stand
	}
	return how
}

// stands are how targets stand whose deployments ended.
var stands = map[deploy.Outcome]plan.Stand{
	deploy.Done: plan.Reached, deploy.Failed: plan.Failed, deploy.BackedOut: plan.BackedOut, deploy.Cancelled: plan.Cancelled,
}

// overBy is what became of a target by how its deployment ended.
func overBy(target string, outcome deploy.Outcome, failure *deploy.Failure) partOver {
	over := partOver{target: target, stand: cmp.Or(stands[outcome], plan.Unclear)}
	if failure != nil {
		over.message = failure.Error()
	}
	return over
}

// outcomeEvery is how often it is read whether the deployment of a service that is gone was closed.
const outcomeEvery = 300 * time.Millisecond

// outcomeOf waits until the deployment of a part is closed that a service began which is gone. One
// that was interrupted is begun again: the target's ledger says how far it came.
func (w *Fleets) outcomeOf(t records.FleetTarget) partOver {
	if t.Deployment == nil {
		return partOver{target: t.Target, stand: plan.Waiting}
	}
	for {
		ctx, cancel := context.WithTimeout(w.ctx, keepPatience)
		d, err := w.records.Deployment(ctx, *t.Deployment)
		cancel()
		if err == nil && d.Outcome != deploy.Running {
			if d.Outcome == deploy.Interrupted {
				return partOver{target: t.Target, stand: plan.Waiting}
			}
			return overBy(t.Target, d.Outcome, d.Failure)
		}
		select {
		case <-w.halt:
			return partOver{target: t.Target, stand: plan.Unclear}
		case <-time.After(outcomeEvery):
		}
	}
}

// ends says how a deployment to a fleet ended: done, only if every target has what was asked for.
func ends(f records.FleetDeployment, how plan.Fleet) (deploy.Outcome, string) {
	waiting, _, exceptions := how.Count()
	untried := plural.Count(waiting, "target was not tried", "targets were not tried")
	stopped := how.Stopped()
	switch {
	case f.Cancel != nil:
		return deploy.Cancelled, *f.Cancel + " cancelled it; " + untried
	case stopped != "":
		return deploy.Failed, stopped + "; " + untried
	case exceptions > 0:
		return deploy.Failed, plural.Count(exceptions, "target does", "targets do") + " not have what was asked for"
	}
	return deploy.Done, ""
}
