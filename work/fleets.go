package work

import (
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
	Parts func(records.FleetDeployment) func(ctx context.Context, target string) Part
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

// Run carries a recorded deployment to a fleet out, in the background, unless it runs here. It goes on
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

// run is the whole life of one, or what is left of it.
func (w *Fleets) run(f records.FleetDeployment, targets []records.FleetTarget, said <-chan records.FleetDeployment) {
	log := w.log.With("fleet", f.ID, "lane", f.Lane, "environment", f.Environment, "actor", f.Actor)
	log.Info("deployment to a fleet runs here", "direction", f.Direction, "targets", len(targets))
	how, parts := standOf(f, targets), map[string]int64{}
	over, begin := make(chan partOver), w.Parts(f)
	under := 0
	var mu sync.Mutex // of parts, the deployments that run, and of ending
	var ending error
	for _, t := range targets {
		if t.Stand != plan.Underway { // else it was begun by a service that is gone
			continue
		}
		under++
		go func() { over <- w.outcomeOf(t) }()
	}
	hear := func(now records.FleetDeployment) {
		how.Paused = now.Paused != nil
		if now.Cancel == nil || how.Ending {
			return
		}
		how.Ending, f.Cancel = true, now.Cancel
		mu.Lock()
		defer mu.Unlock()
		ending = fmt.Errorf("%w: %s did, with the deployment to the fleet", deploy.ErrCancelled, *now.Cancel)
		for _, id := range parts {
			w.Cancel(id, ending)
		}
	}
	hear(f)
	halted := w.halt
	stopping, lost := false, false
	for {
		next, end := how.Next()
		if stopping || lost {
			next, end = nil, under == 0
		}
		if end {
			break
		}
		for _, target := range next {
			how.Stands[target] = plan.Underway
			under++
			go func() {
				over <- w.part(f, target, begin, func(id int64, is bool) {
					mu.Lock()
					defer mu.Unlock()
					if delete(parts, target); !is {
						return
					}
					if parts[target] = id; ending != nil {
						w.Cancel(id, ending)
					}
				})
			}()
		}
		select {
		case <-halted:
			stopping, halted = true, nil
		case now := <-said:
			hear(now)
		case one := <-over:
			under--
			if one.stand == plan.Cancelled && f.Cancel == nil { // the gate closed before the first statement
				one.stand = plan.Held
			}
			how.Stands[one.target] = one.stand
			if stopping && one.stand == plan.Unclear {
				continue // whoever goes on with it reads how its deployment ended
			}
			err := w.insist("what became of a target", func(ctx context.Context) error {
				return w.records.EndFleetTarget(ctx, f.ID, one.target, one.stand, one.message)
			})
			var taken records.TakenOverError
			lost = lost || errors.As(err, &taken)
		}
	}
	if stopping || lost {
		log.Info("deployment to a fleet goes on elsewhere, or at the next start")
		return
	}
	outcome, message := w.ends(f, how)
	err := w.insist("how a deployment to a fleet ended", func(ctx context.Context) error {
		return w.records.EndFleet(ctx, f.ID, outcome, message)
	})
	if err == nil {
		w.Told(f, outcome, message)
	}
	log.Info("deployment to a fleet ended", "outcome", outcome, "message", message)
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

// part is one target's part, from its beginning to its end. runs is told which deployment that is,
// and that it is over.
func (w *Fleets) part(
	f records.FleetDeployment, target string, begin func(context.Context, string) Part, runs func(int64, bool),
) partOver {
	began := Part{Stand: plan.Unclear, Message: "the service met a fault; its log has the place"}
	if fault := safely.Do(func() error { began = begin(w.ctx, target); return nil }); fault != nil {
		w.log.Error("the part of a target met a fault", "fleet", f.ID, "target", target, "error", fault)
	}
	if began.Ended == nil {
		return partOver{target, began.Stand, began.Message}
	}
	runs(began.Deployment, true)
	result := <-began.Ended
	runs(began.Deployment, false)
	message := ""
	if result.Failure != nil {
		message = result.Failure.Error()
	}
	return partOver{target, StandOf(result.Outcome), message}
}

// StandOf is how a target stands whose deployment ended.
func StandOf(outcome deploy.Outcome) plan.Stand {
	switch outcome {
	case deploy.Done:
		return plan.Reached
	case deploy.Failed:
		return plan.Failed
	case deploy.BackedOut:
		return plan.BackedOut
	case deploy.Cancelled:
		return plan.Cancelled
	case deploy.Interrupted, deploy.Running:
	}
	return plan.Unclear
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
			message := ""
			if d.Failure != nil {
				message = d.Failure.Error()
			}
			return partOver{t.Target, StandOf(d.Outcome), message}
		}
		select {
		case <-w.halt:
			return partOver{target: t.Target, stand: plan.Unclear}
		case <-time.After(outcomeEvery):
		}
	}
}

// ends says how a deployment to a fleet ended: done, only if every target has what was asked for.
func (w *Fleets) ends(f records.FleetDeployment, how plan.Fleet) (deploy.Outcome, string) {
	exceptions, left := how.Before, 0
	for _, stand := range how.Stands {
		if stand.Exception() {
			exceptions++
		} else if stand == plan.Waiting || stand == "" {
			left++
		}
	}
	message := how.Stopped()
	switch {
	case f.Cancel != nil:
		return deploy.Cancelled, fmt.Sprintf("%s cancelled it; %s", *f.Cancel,
			plural.Count(left, "target was not tried", "targets were not tried"))
	case message != "":
		return deploy.Failed, message + "; " + plural.Count(left, "target was not tried", "targets were not tried")
	case exceptions > 0:
		return deploy.Failed, plural.Count(exceptions, "target does", "targets do") + " not have what was asked for"
	}
	return deploy.Done, ""
}
