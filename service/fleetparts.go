package service

import (
	"context"
	"errors"
	"net/http"
	"sync"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/service/api"
	"vorrang/work"
)

// parts gives what begins the part of a deployment to a fleet at a target: as whoever asked for it,
// and as they may now.
func (s *deploying) parts(
	f records.FleetDeployment, targets []records.FleetTarget,
) func(context.Context, string) work.Part {
	steps := map[string][]step.Number{}
	for _, t := range targets {
		steps[t.Target] = t.Steps
	}
	distinct := sync.OnceValues(func() (map[string][]targetContext, error) {
		return s.targets.allIdentities(s.running.Context())
	})
	seen := &befores{}
	return func(ctx context.Context, target string) work.Part {
		environment := lane.PlaceName(f.Environment, target)
		who, err := s.currentGrants(ctx, records.Scheduled{Lane: f.Lane, Environment: environment, Actor: f.Actor, Who: f.Who})
		if err != nil {
			return work.Part{Stand: plan.Held, Message: err.Error()}
		}
		ended := make(chan deploy.Result, 1)
		c := call{Context: ctx, who: who, actor: f.Actor, part: &fleetPart{
			fleet: f.ID, ended: ended, distinct: distinct, befores: seen, marks: f.Request.Steps, steps: steps[target],
		}}
		var promoted *api.Promoted
		if f.Direction == ledger.Back {
			promoted, err = s.rollback(c, &rollbackIn{
				Lane: f.Lane, Environment: environment, Last: f.Request.Last, To: string(f.Request.To), Release: f.Request.Since,
				Confirm: environment,
			})
		} else {
			promoted, err = s.promote(c, &promoteIn{
				Lane: f.Lane, Environment: environment, Through: f.Request.Through, OnFailure: f.Request.OnFailure,
				Release: f.Request.Release, Whole: f.Request.Whole, // what was shown is what it is bound to
			})
		}
		return s.partOf(promoted, err, ended)
	}
}

// fleetPart is what a deployment knows of the deployment to a fleet of which it is a part.
type fleetPart struct {
	fleet    int64
	ended    chan<- deploy.Result
	befores  *befores
	marks    map[step.Number]string // what tells the texts apart of the steps that some target runs
	steps    []step.Number          // that this one may run
	distinct func() (map[string][]targetContext, error)
}

// toRun are the steps that the part may run.
func (part *fleetPart) toRun() map[step.Number]bool {
	steps := map[step.Number]bool{}
	for _, number := range part.steps {
		steps[number] = true
	}
	return steps
}

// partOf is how a part began, by the answer to whoever would have begun it by hand.
func (s *deploying) partOf(promoted *api.Promoted, err error, ended <-chan deploy.Result) work.Part {
	var reason *problemError
	var connect *engine.ConnectError
	var taken records.TakenOverError
	var lost records.LostError
	switch {
	case err == nil && promoted.Nothing:
		return work.Part{Stand: plan.Reached, Message: "there was nothing to do"}
	case err == nil:
		return work.Part{Ended: ended, Deployment: promoted.Deployment.ID}
	case errors.As(err, &reason) && reason.problem.Status == http.StatusServiceUnavailable,
		errors.As(err, &taken): // this service stops, or is not asked any more
		return work.Part{Stand: plan.Waiting}
	case errors.As(err, &lost), !errors.As(err, &connect) && records.Away(err): // it is tried again, or elsewhere
		work.Pause(s.running.Context(), recordsAgain)
		return work.Part{Stand: plan.Waiting}
	case errors.As(err, &connect):
		return work.Part{Stand: plan.Away, Message: connect.Message}
	case errors.As(err, &reason):
		return work.Part{Stand: plan.Held, Message: reason.problem.Detail}
	}
	return work.Part{Stand: plan.Held, Message: s.problem(err).Detail}
}

// recordsAgain is how soon the part of a fleet's deployment is tried again that the records were away for.
const recordsAgain = time.Second

// allIdentities says which places have which database, by what the servers say of themselves.
func (s *targets) allIdentities(ctx context.Context) (map[string][]targetContext, error) {
	lanes, err := s.lanes(ctx)
	if err != nil {
		return nil, err
	}
	all := s.placesOf(lanes)
	found := map[string][]targetContext{}
	for i, identity := range s.identities(ctx, all) {
		if identity != "" {
			found[identity] = append(found[identity], all[i])
		}
	}
	return found, nil
}

// unsharedIn is unshared by what was found of all places, once for all parts of a deployment to a
// fleet.
func unsharedIn(ctx context.Context, p targetContext, session engine.Session, found map[string][]targetContext) error {
	own, err := session.Identity(ctx)
	if err != nil {
		return err
	}
	for _, other := range found[own] {
		if other.lane.Name != p.lane.Name || other.environment.Name != p.environment.Name {
			return shared(p, other)
		}
	}
	return nil
}
