package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/records"
	"vorrang/service/api"
	"vorrang/work"
)

// surveyed is what was seen of one target of a fleet.
type surveyed struct {
	place   targetContext
	away    string // why it could not be read; empty where it could
	gate    gate.Result
	refused string // why there is no plan, where its gate is clear
	planned int    // actions that a deployment would have there
	digest  string // of that plan
}

// surveyAll looks at targets of a fleet, so many at a time, and asks the gate of each.
func (s *gates) surveyAll(
	ctx context.Context, places []targetContext, w deploymentRequest, actor string,
) ([]surveyed, error) {
	list, errs := make([]surveyed, len(places)), make([]error, len(places))
	who := promotionRequest{through: w.through, actor: actor, back: w.back, befores: &befores{}}
	each(places, mostLooks, func(i int, p targetContext) {
		list[i].place = p
		within, cancel := context.WithTimeout(ctx, lookTimeout)
		defer cancel()
		facts, err := s.survey(within, p, who)
		switch {
		case err == nil:
		case ctx.Err() != nil || !errors.As(err, new(*engine.ConnectError)) && records.Away(err):
			errs[i] = err
			return
		default:
			list[i].away = unreachable(err).Message
			return
		}
		list[i].gate = w.gate(facts)
		if planned, err := w.plan(facts.View); err == nil {
			list[i].planned, list[i].digest = len(planned.Actions), planned.Digest()
		} else if !list[i].gate.Held() {
			list[i].refused = err.Error()
		}
	})
	return list, errors.Join(errs...)
}

// answers are what the gates of those targets said that were reached.
func answers(seen []surveyed) (list []gate.Answer) {
	for _, one := range seen {
		if one.away == "" {
			list = append(list, gate.Answer{Place: one.place.environment.Name, Result: one.gate})
		}
	}
	return list
}

// inUse are the targets of a fleet that are not set aside, and those that are.
func (s *targets) inUse(ctx context.Context, p targetContext) (list []targetContext, aside map[string]records.Aside, err error) {
	if p.environment.Fleet.Unread != "" {
		return nil, nil, manyTargets(p.environment)
	}
	if aside, err = s.Records.AsideOf(ctx, p.lane.Name, p.environment.Name); err != nil {
		return nil, nil, err
	}
	for _, one := range s.places(p) {
		if _, is := aside[lane.TargetOf(one.environment.Name)]; !is {
			list = append(list, one)
		}
	}
	if len(list) == 0 {
		return nil, nil, refused(see(remedy.LookAtStatus, "see why"), "every target of %s is set aside", p.environment.Name)
	}
	return list, aside, nil
}

// deployFleet begins a deployment to a fleet: the gate of each target is asked, and those that have
// something to do get it in waves.
func (s *deploying) deployFleet(
	c call, p targetContext, w deploymentRequest, request records.FleetRequest, direction ledger.Direction,
) (*api.Promoted, error) {
	if running, err := s.Records.RunningFleet(c, p.lane.Name, p.environment.Name); err != nil || running != nil {
		return nil, cmp.Or(err, busyFleet(running))
	}
	places, aside, err := s.targets.inUse(c, p)
	if err != nil {
		return nil, err
	}
	seen, err := s.gates.surveyAll(c, places, w, c.actor)
	if err != nil {
		return nil, err
	}
	merged := gate.Merge(p.environment.Name, answers(seen))
	targets, exceptions, planned := inWaves(p, seen, aside)
	if tooMany(p, exceptions, planned) {
		return nil, s.heldFleet(c, p, seen, merged, exceptions)
	}
	if planned == 0 {
		return &api.Promoted{Nothing: true, Steps: len(p.catalogue), Gate: merged.Checks, Settled: []string{}}, nil
	}
	f := records.FleetDeployment{
		Lane: p.lane.Name, Environment: p.environment.Name, Direction: direction, Request: request,
		Waves: p.environment.Fleet.Waves, Actor: c.actor, Who: c.identity(),
	}
	if f, err = s.Records.BeginFleet(c, f, targets, c.scheduled); err != nil {
		var running *records.FleetRunningError
		if errors.As(err, &running) {
			err = busyFleet(&running.Fleet)
		}
		return nil, err
	}
	s.fleets.Run(f, targets)
	s.hooks.Tell(c, api.HookEvent{
		Type: api.EventStarted, Lane: f.Lane, Environment: f.Environment, Actor: f.Actor, Release: f.Request.Release,
		Message: fmt.Sprintf("to %s of a fleet", plural.Of(planned, "target")),
	})
	s.looking.changed()
	s.tellOthers(c)
	c.status(http.StatusAccepted)
	c.note("fleet", f.ID)
	shown := fleetDeploymentOf(f, targets)
	return &api.Promoted{Fleet: &shown, Gate: merged.Checks, Settled: []string{}}, nil
}

// tooMany reports whether a deployment to a fleet does not begin: more targets cannot take part than are
// tolerated, or none can that has something to do.
func tooMany(p targetContext, exceptions, planned int) bool {
	return exceptions > p.environment.Fleet.Tolerate || planned == 0 && exceptions > 0
}

// inWaves sorts what was seen into waves: targets with something to do, behind the canaries. The
// others are in no wave, with what keeps them out of it.
func inWaves(
	p targetContext, seen []surveyed, aside map[string]records.Aside,
) (targets []records.FleetTarget, exceptions, planned int) {
	var ready []string
	at := map[string]int{}
	for i, t := range p.environment.Fleet.Targets {
		if _, is := aside[t.Name]; !is {
			at[t.Name] = i
		}
	}
	for _, one := range seen {
		t := records.FleetTarget{Target: lane.TargetOf(one.place.environment.Name), Stand: plan.Waiting}
		t.Place = at[t.Target]
		switch {
		case one.away != "":
			t.Stand, t.Message = plan.Away, one.away
		case one.gate.Held():
			hold := one.gate.Holds()[0]
			t.Stand, t.Message = plan.Held, fmt.Sprintf("%s (%s)", hold.Evidence, hold.ID)
		case one.refused != "":
			t.Stand, t.Message = plan.Held, one.refused
		case one.planned == 0:
			t.Stand, t.Message = plan.Reached, "there was nothing to do"
		default:
			ready = append(ready, t.Target)
		}
		if t.Stand.Exception() {
			exceptions++
		}
		targets = append(targets, t)
	}
	waves := plan.Waves(ready, p.environment.Fleet.Canary, p.environment.Fleet.Size)
	number := map[string]int{}
	for i, wave := range waves {
		for _, target := range wave {
			number[target] = i + 1
		}
	}
	for i := range targets {
		targets[i].Wave = number[targets[i].Target]
	}
	return targets, exceptions, len(ready)
}

func busyFleet(f *records.FleetDeployment) error {
	if f == nil {
		return nil
	}
	return refuse(http.StatusConflict, "held", "The fleet is busy", by("wait for it to end, or cancel it"),
		"%s", (&records.FleetRunningError{Fleet: *f}).Error())
}

// heldFleet says for how many targets the gate is held, or which are away, and tells the hooks.
func (s *deploying) heldFleet(c call, p targetContext, seen []surveyed, merged gate.Result, exceptions int) error {
	problem := api.Problem{
		Type: "urn:vorrang:held", Title: fmt.Sprintf("The gate of %s is held", p.environment.Name), Status: http.StatusConflict,
		Checks: merged.Checks,
	}
	var away, unplanned []string
	refused := ""
	for _, one := range seen {
		if one.away != "" {
			away = append(away, one.place.environment.Name)
			problem.Differences = append(problem.Differences, one.place.environment.Name+": "+one.away)
		}
		if one.refused != "" {
			unplanned, refused = append(unplanned, one.place.environment.Name), one.refused
			problem.Differences = append(problem.Differences, one.place.environment.Name+": "+one.refused)
		}
	}
	var why []string
	holds := merged.Holds()
	if len(holds) > 0 {
		why = append(why, holds[0].Evidence)
		problem.Remedies = holds[0].Remedies
	}
	if len(away) > 0 {
		why = append(why, fmt.Sprintf("%s could not be reached: %s", plural.Of(len(away), "target"), gate.Some(away)))
		problem.Remedies = append(problem.Remedies, remedy.ByHand("let the service reach them, or set them aside with a reason"))
	}
	if len(unplanned) > 0 {
		why = append(why, fmt.Sprintf("%s: %s", gate.Some(unplanned), refused))
	}
	problem.Detail = fmt.Sprintf("%s of %d cannot take part, and %s tolerated: %s", plural.Of(exceptions, "target"), len(seen),
		plural.Count(p.environment.Fleet.Tolerate, "is", "are"), strings.Join(why, "; "))
	s.hooks.Tell(c, api.HookEvent{Type: api.EventHeld, Lane: p.lane.Name, Environment: p.environment.Name, Actor: c.actor,
		Message: problem.Detail})
	return &problemError{problem}
}

// identity is how to find out later what a caller may then.
func (c call) identity() records.Identity {
	if c.who.Person {
		return records.Identity{Person: c.who.Name}
	}
	return records.Identity{Token: c.who.token}
}

// rollbackFleet begins a rollback on a fleet.
func (s *deploying) rollbackFleet(c call, p targetContext, in *rollbackIn) (*api.Promoted, error) {
	if in.Deployment != 0 {
		return nil, badRequest(nil, "deployment: a deployment is of one target; name that one, or say how far to go back by last, to "+
			"or release")
	}
	w, err := s.rollbackRequest(c, p, *in)
	if err != nil {
		return nil, err
	}
	if err := confirmedBack(p, in); err != nil {
		return nil, err
	}
	request := records.FleetRequest{
		ScheduledRequest: records.ScheduledRequest{Plan: in.Plan}, Last: in.Last, To: step.Number(in.To), Since: in.Release,
	}
	return s.deployFleet(c, p, w, request, ledger.Back)
}

// parts gives what begins the part of a deployment to a fleet at a target: as whoever asked for it,
// and as they may now.
func (s *deploying) parts(f records.FleetDeployment) func(context.Context, string) work.Part {
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
			fleet: f.ID, ended: ended, distinct: distinct, befores: seen,
		}}
		var promoted *api.Promoted
		if f.Direction == ledger.Back {
			promoted, err = s.rollback(c, &rollbackIn{
				Lane: f.Lane, Environment: environment, Last: f.Request.Last, To: string(f.Request.To), Release: f.Request.Since,
				Confirm: environment, Plan: f.Request.Plan,
			})
		} else {
			promoted, err = s.promote(c, &promoteIn{
				Lane: f.Lane, Environment: environment, Through: f.Request.Through, OnFailure: f.Request.OnFailure,
				Release: f.Request.Release, Whole: f.Request.Whole, Plan: f.Request.Plan,
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
	distinct func() (map[string][]targetContext, error)
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

func fleetDeploymentOf(f records.FleetDeployment, targets []records.FleetTarget) api.FleetDeployment {
	shown := api.FleetDeployment{
		ID: f.ID, Lane: f.Lane, Environment: f.Environment, Direction: f.Direction, Outcome: f.Outcome, Message: f.Message,
		Release: f.Request.Release, Actor: f.Actor, Waves: f.Waves, StartedAt: f.StartedAt, EndedAt: f.EndedAt,
		Counts: map[plan.Stand]int{},
	}
	if f.Paused != nil {
		shown.Paused = *f.Paused
	}
	if f.Cancel != nil {
		shown.Cancel = *f.Cancel
	}
	for _, t := range targets {
		shown.Counts[t.Stand]++
		one := api.FleetTarget{
			Target: t.Target, Wave: t.Wave, Stand: t.Stand, Message: t.Message, BeganAt: t.BeganAt, EndedAt: t.EndedAt,
		}
		if t.Deployment != nil {
			one.Deployment = *t.Deployment
		}
		shown.Targets = append(shown.Targets, one)
	}
	return shown
}

type fleetDeploymentIn struct {
	Fleet int64 `path:"fleet"`
}

func noFleetDeployment(id string) error {
	return refuse(http.StatusNotFound, "not-found", "Not found", see(remedy.LookAtDeployments, "see which there are"),
		"there is no deployment to a fleet with the number %s", id)
}

func (s *deploying) fleetDeployment(c call, in *fleetDeploymentIn) (*api.FleetDeployment, error) {
	f, err := s.Records.FleetDeployment(c, in.Fleet) // whose end is written after those of its targets
	if err != nil {
		return nil, err
	}
	targets, err := s.Records.FleetTargets(c, in.Fleet)
	if err != nil {
		return nil, err
	}
	shown := fleetDeploymentOf(f, targets)
	return &shown, nil
}

type fleetDeploymentsIn struct {
	Lane        string `query:"lane"`
	Environment string `query:"environment"`
	Before      int64  `query:"before" minimum:"0" description:"Only those before this one; the newest if absent."`
	Limit       int    `query:"limit" minimum:"1" maximum:"100" default:"20"`
}

func (s *deploying) fleetDeployments(c call, in *fleetDeploymentsIn) (*api.FleetDeployments, error) {
	list, err := s.Records.FleetDeployments(c, in.Lane, in.Environment, in.Before, in.Limit+1)
	if err != nil {
		return nil, err
	}
	answer := &api.FleetDeployments{Deployments: []api.FleetDeployment{}}
	for i, f := range list {
		if i == in.Limit {
			answer.Next = list[i-1].ID
			break
		}
		if !c.who.mayLook(f.Lane, f.Environment) {
			continue
		}
		targets, err := s.Records.FleetTargets(c, f.ID)
		if err != nil {
			return nil, err
		}
		shown := fleetDeploymentOf(f, targets)
		shown.Targets = nil
		answer.Deployments = append(answer.Deployments, shown)
	}
	return answer, nil
}

// steer says something to a deployment to a fleet, wherever it runs.
func (s *deploying) steer(c call, id int64, word records.FleetWord, who, done string) (*api.FleetDeployment, error) {
	f, err := s.Records.FleetDeployment(c, id)
	if err != nil {
		return nil, err
	}
	runs, err := s.Records.SteerFleet(c, id, word, who)
	if err == nil && !runs {
		err = refused(see(remedy.LookAtDeployments, "see what became of it"),
			"deployment %d to the fleet %s ended: %s", id, f.Environment, f.Outcome)
	}
	if err != nil {
		return nil, err
	}
	s.others.soon()
	s.Log.Info("deployment to a fleet "+done, "fleet", id, "actor", c.actor)
	c.status(http.StatusAccepted)
	return s.fleetDeployment(c, &fleetDeploymentIn{id})
}

func (s *deploying) pauseFleet(c call, in *fleetDeploymentIn) (*api.FleetDeployment, error) {
	return s.steer(c, in.Fleet, records.PauseFleet, c.actor, "is paused")
}

func (s *deploying) resumeFleet(c call, in *fleetDeploymentIn) (*api.FleetDeployment, error) {
	return s.steer(c, in.Fleet, records.PauseFleet, "", "goes on")
}

func (s *deploying) cancelFleet(c call, in *fleetDeploymentIn) (*api.FleetDeployment, error) {
	return s.steer(c, in.Fleet, records.CancelFleet, c.actor, "is to end")
}

type setAsideIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment" description:"ENVIRONMENT.TARGET."`
	Reason      string `json:"reason" required:"true" minLength:"1"`
}

// setAside has deployments to a fleet, and gates, pass over a target.
func (s *gates) setAside(c call, in *setAsideIn) (*api.SetAside, error) {
	p, err := s.ofFleet(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	a := records.Aside{
		Target: lane.TargetOf(p.environment.Name), Reason: strings.Join(strings.Fields(in.Reason), " "), By: c.actor, At: s.Now().UTC(),
	}
	if a.Reason == "" {
		return nil, badRequest(nil, "reason: say why; whoever reads the gate reads it")
	}
	err = s.Records.Change(c, in.Lane, func() error {
		return s.Records.SetAside(c, in.Lane, lane.EnvironmentOf(in.Environment), a)
	})
	if err != nil {
		return nil, err
	}
	s.looking.changed()
	return &api.SetAside{Target: a.Target, Reason: a.Reason, By: a.By, At: a.At}, nil
}

type takeBackIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment" description:"ENVIRONMENT.TARGET."`
}

// takeBack ends that.
func (s *gates) takeBack(c call, in *takeBackIn) (*nothing, error) {
	if _, err := s.ofFleet(c, in.Lane, in.Environment); err != nil {
		return nil, err
	}
	var was bool
	err := s.Records.Change(c, in.Lane, func() (err error) {
		was, err = s.Records.TakeBack(c, in.Lane, lane.EnvironmentOf(in.Environment), lane.TargetOf(in.Environment))
		return err
	})
	if err == nil && !was {
		err = refused(see(remedy.LookAtStatus, "see which are"), "%s is not set aside", in.Environment)
	}
	s.looking.changed()
	return &nothing{}, err
}

// ofFleet is a place that is one target of a fleet.
func (s *gates) ofFleet(c call, laneName, environment string) (targetContext, error) {
	p, err := s.targets.place(c, laneName, environment)
	if err == nil && lane.TargetOf(environment) == "" {
		err = refused(nil, "%s is not a target of a fleet, and cannot be set aside", environment)
	}
	return p, err
}

// toldOfFleet tells the hooks how a deployment to a fleet ended.
func (s *deploying) toldOfFleet(f records.FleetDeployment, outcome deploy.Outcome, message string) {
	s.looking.changed()
	kind := api.EventFailed
	if outcome == deploy.Done {
		kind = api.EventDone
	}
	ctx, cancel := context.WithTimeout(context.Background(), tellPatience)
	defer cancel()
	s.hooks.Tell(ctx, api.HookEvent{
		Type: kind, Lane: f.Lane, Environment: f.Environment, Actor: f.Actor, Release: f.Request.Release,
		Message: cmp.Or(message, string(outcome)),
	})
}
