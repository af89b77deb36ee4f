package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

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
)

// surveyed is what was seen of one target of a fleet.
type surveyed struct {
	place   targetContext
	away    string // why it could not be read; empty where it could
	gate    gate.Result
	refused string // why there is no plan, where its gate is clear
	planned bool   // what it would run is known
	plan    plan.Plan
	digest  string      // of the plan; empty where there is none
	failed  step.Number // the first step of the plan that failed there before; empty for none
}

// surveyAll looks at targets of a fleet, so many at a time, and asks the gate of each.
func (s *gates) surveyAll(
	ctx context.Context, places []targetContext, w deploymentRequest, actor string,
) ([]surveyed, error) {
	list, errs := make([]surveyed, len(places)), make([]error, len(places))
	who := promotionRequest{through: w.through, actor: actor, back: w.back, befores: &befores{}}
	each(places, mostLooks, func(i int, p targetContext) {
		list[i].place = p
		facts, err := s.survey(ctx, p, who)
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
		planned, err := w.plan(facts.View)
		switch {
		case err == nil && len(planned.Actions) > 0 && !w.isShown(planned):
			list[i].refused = notShown
		case err != nil && !list[i].gate.Held():
			list[i].refused = err.Error()
		}
		if err == nil {
			list[i].planned, list[i].plan, list[i].digest = true, planned, planned.Digest()
			for _, a := range planned.Actions {
				if facts.View.State.Of(a.Step.Number).Status == ledger.StatusFailed {
					list[i].failed = a.Step.Number
					break
				}
			}
		}
	})
	return list, errors.Join(errs...)
}

// fleetAnswer is what a deployment to a fleet would do, by what was seen of its targets.
type fleetAnswer struct {
	gate                gate.Result // of all together
	held                bool        // nothing would begin; else exceptions are tolerated
	targets             []records.FleetTarget
	exceptions, planned int // targets that cannot take part, and those that have something to do
}

func answerOf(p targetContext, seen []surveyed) (f fleetAnswer) {
	var answers []gate.Answer
	var away []gate.Away
	for _, one := range seen {
		if one.away != "" {
			away = append(away, gate.Away{Place: one.place.environment.Name, Why: one.away})
			continue
		}
		answers = append(answers, gate.Answer{Place: one.place.environment.Name, Result: one.gate})
	}
	f.gate = gate.Merge(p.environment.Name, answers, away)
	f.targets, f.exceptions, f.planned = inWaves(p.environment.Fleet.Waves, seen)
	if f.held = tooMany(p, f.exceptions, f.planned); f.exceptions == 0 || f.held {
		return f
	}
	var without []string
	for _, t := range f.targets {
		if t.Stand.Exception() {
			without = append(without, lane.PlaceName(p.environment.Name, t.Target))
		}
	}
	f.gate.Notes = append(f.gate.Notes, fmt.Sprintf("a deployment goes on without %s: %s tolerated", gate.Some(without),
		plural.Count(p.environment.Fleet.Tolerate, "is", "are")))
	return f
}

// inUse are the targets of a fleet that are not set aside. There is one, at least.
func (s *targets) inUse(ctx context.Context, p targetContext) (list []targetContext, err error) {
	if p.environment.Fleet.Unread != "" {
		return nil, manyTargets(p.environment)
	}
	aside, err := s.Records.AsideOf(ctx, p.lane.Name, p.environment.Name)
	if err != nil {
		return nil, err
	}
	for _, one := range s.places(p) {
		if _, is := aside[lane.TargetOf(one.environment.Name)]; !is {
			list = append(list, one)
		}
	}
	if len(list) == 0 {
		return nil, refused(see(remedy.LookAtStatus, "see why"), "every target of %s is set aside", p.environment.Name)
	}
	return list, nil
}

// deployFleet begins a deployment to a fleet: the gate of each target is asked, and those that have
// something to do get it in waves.
func (s *deploying) deployFleet(
	c call, p targetContext, w deploymentRequest, request records.FleetRequest, direction ledger.Direction,
) (*api.Promoted, error) {
	running, err := s.Records.RunningFleet(c, p.lane.Name, p.environment.Name)
	if err == nil && running != nil {
		err = busyFleet(*running)
	}
	if err != nil {
		return nil, err
	}
	places, err := s.targets.inUse(c, p)
	if err != nil {
		return nil, err
	}
	seen, err := s.gates.surveyAll(c, places, w, c.actor)
	if err != nil {
		return nil, err
	}
	answer := answerOf(p, seen)
	if answer.held {
		return nil, s.heldFleet(c, p, seen, answer)
	}
	if answer.planned == 0 {
		return &api.Promoted{Nothing: true, Steps: len(p.catalogue), Gate: answer.gate.Checks, Settled: []string{}}, nil
	}
	request = pinned(request, direction, seen)
	f := records.FleetDeployment{
		Lane: p.lane.Name, Environment: p.environment.Name, Direction: direction, Request: request,
		Waves: p.environment.Fleet.Waves, Actor: c.actor, Who: c.identity(),
	}
	if f, err = s.Records.BeginFleet(c, f, answer.targets, c.scheduled); err != nil {
		var running *records.FleetRunningError
		if errors.As(err, &running) {
			err = busyFleet(running.Fleet)
		}
		return nil, err
	}
	s.fleets.Run(f, answer.targets)
	s.hooks.Tell(c, api.HookEvent{
		Type: api.EventStarted, Lane: f.Lane, Environment: f.Environment, Actor: f.Actor, Release: f.Request.Release,
		Message: fmt.Sprintf("to %s of a fleet", plural.Of(answer.planned, "target")),
	})
	s.looking.changed()
	s.tellOthers(c)
	c.status(http.StatusAccepted)
	c.note("fleet", f.ID)
	shown := fleetDeploymentOf(f, answer.targets)
	return &api.Promoted{Fleet: &shown, Gate: answer.gate.Checks, Settled: []string{}}, nil
}

// pinned binds a deployment to a fleet to the steps as they are now: what is submitted while it runs, its
// canaries did not have.
func pinned(request records.FleetRequest, direction ledger.Direction, seen []surveyed) records.FleetRequest {
	request.Steps = map[step.Number]string{}
	last := step.Number("")
	for _, one := range seen {
		for _, a := range one.plan.Actions {
			request.Steps[a.Step.Number] = markOf(a.Step)
			if last == "" || step.Compare(a.Step.Number, last) > 0 {
				last = a.Step.Number
			}
		}
	}
	if direction == ledger.Forward && request.Through == "" && request.Release == "" {
		request.Through = string(last)
	}
	return request
}

// markOf tells the texts of a step apart from any others.
func markOf(s plan.Step) string {
	mark := string(s.Forward.Checksum)
	for _, text := range []*plan.Text{s.Back, s.Check} {
		mark += " "
		if text != nil {
			mark += string(text.Checksum)
		}
	}
	return string(step.Sum([]byte(mark)))
}

// within refuses a plan with steps, or texts of them, that are not those with which the deployment to the
// fleet began.
func (part *fleetPart) within(planned plan.Plan) error {
	for _, a := range planned.Actions {
		if part.marks[a.Step.Number] != "" && !slices.Contains(part.steps, a.Step.Number) {
			return refused(
				by("promote, or roll back, this target by itself"),
				"step %s is not among those that this target was to run when the deployment to the fleet began: its history went on "+
					"since then",
				a.Step.Number,
			)
		}
		if mark, known := part.marks[a.Step.Number]; !known || mark != markOf(a.Step) {
			return refused(
				by("promote again once the deployment to the fleet has ended"),
				"step %s was submitted or edited after the deployment to the fleet began, and its canaries did not have it so",
				a.Step.Number,
			)
		}
	}
	return nil
}

// tooMany reports whether a deployment to a fleet does not begin: more targets cannot take part than are
// tolerated, or none can that has something to do.
func tooMany(p targetContext, exceptions, planned int) bool {
	return exceptions > p.environment.Fleet.Tolerate || planned == 0 && exceptions > 0
}

// inWaves sorts what was seen into waves: targets with something to do, behind the canaries. The
// others are in no wave, with what keeps them out of it. A target where a step failed that another
// one has comes last: what failed there is its own, and keeps nobody waiting. Where nobody has the
// step, that may be at fault, and it is tried first where it failed.
func inWaves(
	how lane.Waves, seen []surveyed,
) (targets []records.FleetTarget, exceptions, planned int) {
	var first, ready, last []string
	had := hadElsewhere(seen)
	for i, one := range seen {
		t := records.FleetTarget{Target: lane.TargetOf(one.place.environment.Name), Place: i, Stand: plan.Waiting}
		for _, a := range one.plan.Actions {
			t.Steps = append(t.Steps, a.Step.Number)
		}
		switch {
		case one.away != "":
			t.Stand, t.Message = plan.Away, one.away
		case one.gate.Held():
			hold := one.gate.Holds()[0]
			t.Stand, t.Message = plan.Held, fmt.Sprintf("%s (%s)", hold.Evidence, hold.ID)
		case one.refused != "":
			t.Stand, t.Message = plan.Held, one.refused
		case len(one.plan.Actions) == 0:
			t.Stand, t.Message = plan.Reached, "there was nothing to do"
		case one.failed != "" && had(one.failed):
			last = append(last, t.Target)
		case one.failed != "":
			first = append(first, t.Target)
		default:
			ready = append(ready, t.Target)
		}
		if t.Stand.Exception() {
			exceptions++
		}
		targets = append(targets, t)
	}
	ready = slices.Concat(first, ready, last)
	waves := plan.Waves(ready, how.Canary, how.Size)
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

func busyFleet(f records.FleetDeployment) error {
	return refuse(http.StatusConflict, "held", "The fleet is busy", by("wait for it to end, or cancel it"),
		"%s", (&records.FleetRunningError{Fleet: f}).Error())
}

// heldFleet says for how many targets the gate is held, or which are away, and tells the hooks.
func (s *deploying) heldFleet(c call, p targetContext, seen []surveyed, answer fleetAnswer) error {
	problem := api.Problem{
		Type: "urn:vorrang:held", Title: fmt.Sprintf("The gate of %s is held", p.environment.Name), Status: http.StatusConflict,
		Checks: answer.gate.Checks,
	}
	for _, t := range answer.targets {
		if t.Stand.Exception() {
			problem.Targets = append(problem.Targets, t.Target)
		}
	}
	var unplanned []string
	refused := ""
	for _, one := range seen {
		if one.refused != "" {
			unplanned, refused = append(unplanned, one.place.environment.Name), one.refused
			problem.Differences = append(problem.Differences, one.place.environment.Name+": "+one.refused)
		}
	}
	var why []string
	const mostSaid = 2 // the checks have the others
	holds := answer.gate.Holds()
	for _, hold := range holds[:min(len(holds), mostSaid)] {
		why = append(why, hold.Evidence)
		problem.Remedies = append(problem.Remedies, hold.Remedies...)
	}
	if len(unplanned) > 0 {
		why = append(why, fmt.Sprintf("%s: %s", gate.Some(unplanned), refused))
	}
	problem.Detail = fmt.Sprintf("%s of %d cannot take part, and %s tolerated: %s", plural.Of(answer.exceptions, "target"), len(seen),
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
	w.shown = in.Plan
	if err := confirmedBack(p, in); err != nil {
		return nil, err
	}
	request := records.FleetRequest{
		ScheduledRequest: records.ScheduledRequest{Plan: in.Plan}, Last: in.Last, To: step.Number(in.To), Since: in.Release,
	}
	return s.deployFleet(c, p, w, request, ledger.Back)
}

// toldOfFleet tells the hooks how a deployment to a fleet ended.
func (s *deploying) toldOfFleet(f records.FleetDeployment, outcome deploy.Outcome, message string) {
	s.looking.changed()
	ctx, cancel := context.WithTimeout(context.Background(), tellPatience)
	defer cancel()
	s.hooks.Tell(ctx, api.HookEvent{
		Type: endedAs(outcome), Lane: f.Lane, Environment: f.Environment, Actor: f.Actor, Release: f.Request.Release,
		Message: cmp.Or(message, string(outcome)),
	})
}

// hadElsewhere says of a step of the deployment whether any target that was seen has it already.
func hadElsewhere(seen []surveyed) func(step.Number) bool {
	surveyed, lack := 0, map[step.Number]int{}
	for _, one := range seen {
		if !one.planned {
			continue
		}
		surveyed++
		for _, a := range one.plan.Actions {
			lack[a.Step.Number]++
		}
	}
	return func(number step.Number) bool { return lack[number] < surveyed }
}
