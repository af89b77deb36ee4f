package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/service/api"
)

type promoteIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Through     string `json:"through,omitempty" description:"The last step to apply; all that wait if absent."`
	OnFailure   string `json:"on_failure,omitempty" enum:"stop,back-out" description:"What becomes of this deployment's earlier steps when one fails; what the lane says if absent."`
	Release     string `json:"release,omitempty" description:"Apply the steps of this release; loose steps if absent."`
	Whole       bool   `json:"whole,omitempty" description:"All steps in one transaction, all or nothing."`

	Plan string `json:"plan,omitempty" description:"The digest of the plan that was shown, or its first 12 digits or more; another plan is refused."`

	At time.Time `json:"at,omitzero,omitempty" description:"Not now, but then, if its gate is clear then; at most 90 days ahead."`
}

func (s *deploying) promote(c call, in *promoteIn) (*api.Promoted, error) {
	p, err := s.targets.environment(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	policy := cmp.Or(plan.Policy(in.OnFailure), p.lane.Policy(p.environment))
	request, err := forwardRequest(in.Through, policy, in.Whole)
	if err == nil {
		p, err = s.library.narrow(c, p, in.Release)
	}
	if err != nil {
		return nil, err
	}
	if !in.At.IsZero() {
		return s.schedule(c, p, in)
	}
	request.shown = in.Plan
	if p.environment.Fleet != nil {
		return s.deployFleet(c, p, request, records.FleetRequest{ScheduledRequest: in.request()}, ledger.Forward)
	}
	return s.deployForward(c, p, request)
}

// request is what is kept of it where it does not begin at once.
func (in *promoteIn) request() records.ScheduledRequest {
	return records.ScheduledRequest{
		Through: in.Through, OnFailure: in.OnFailure, Release: in.Release, Whole: in.Whole, Plan: in.Plan,
	}
}

// deployForward begins a promotion, and tells the hooks if it is held.
func (s *deploying) deployForward(c call, p targetContext, w deploymentRequest) (*api.Promoted, error) {
	promoted, err := s.deploy(c, p, w)
	var reason *problemError
	if errors.As(err, &reason) && len(reason.problem.Checks) > 0 {
		h := api.HookEvent{
			Type:        api.EventHeld,
			Lane:        p.lane.Name,
			Environment: p.environment.Name,
			Actor:       c.actor,
			Message:     reason.problem.Detail,
		}
		if p.release != nil {
			h.Release = p.release.Name
		}
		s.hooks.Tell(c, h)
	}
	return promoted, err
}

type rollbackIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Last        int    `json:"last,omitempty" minimum:"1" description:"The last so many steps."`
	To          string `json:"to,omitempty" description:"Everything above this step; 0 is everything."`
	Deployment  int64  `json:"deployment,omitempty" description:"What this deployment applied."`
	Release     string `json:"release,omitempty" description:"Everything that is not in this release."`
	Confirm     string `json:"confirm,omitempty" description:"The environment's name, typed; needed where it is not disposable."`
	Plan        string `json:"plan,omitempty" description:"The digest of the plan that was shown, or its first 12 digits or more; another plan is refused."`
}

func (s *deploying) rollback(c call, in *rollbackIn) (*api.Promoted, error) {
	p, err := s.targets.environment(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	if p.environment.Fleet != nil {
		return s.rollbackFleet(c, p, in)
	}
	request, err := s.rollbackRequest(c, p, *in)
	if err != nil {
		return nil, err
	}
	if c.part != nil { // what an interrupted part rolled back already is not counted again
		request = s.back(c, p, plan.Way{Of: c.part.toRun()})
	}
	if err := confirmedBack(p, in); err != nil {
		return nil, err
	}
	request.shown = in.Plan
	return s.deploy(c, p, request)
}

// confirmedBack refuses a rollback for which the environment's name has to be typed, and was not.
func confirmedBack(p targetContext, in *rollbackIn) error {
	if p.environment.Disposable || in.Confirm == in.Environment {
		return nil
	}
	return refused(
		todo{p.at().Do(remedy.LookAtWaysBack).For("read the SQL first").And(confirm(in.Environment))},
		"a rollback on %s, which is not disposable, needs its name typed as confirmation",
		in.Environment,
	)
}

// deploymentRequest is what somebody wants done: how to plan it, and what to ask first.
type deploymentRequest struct {
	plan  func(plan.View) (plan.Plan, error)
	gate  func(gate.Facts) gate.Result
	first func(targetContext, engine.Session) error // asked once the lock is held; nil for nothing

	back    bool        // it is a rollback
	through step.Number // the last step; empty for all
	shown   string      // how the digest of the plan that somebody saw begins; empty for none
	id      string      // of the request that began it; empty for one that was scheduled
	trace   context.Context
	ended   chan<- deploy.Result // is told how it ended; nil for nobody
	befores *befores             // shared with the other targets of a fleet; nil for none
}

// isShown reports whether a plan is the one that somebody saw, if they saw one.
func (w deploymentRequest) isShown(planned plan.Plan) bool {
	return w.shown == "" || len(w.shown) >= leastShown && strings.HasPrefix(planned.Digest(), w.shown)
}

const notShown = "the plan is not the one that was shown: steps, their texts or the target changed in between"

// fleet is the deployment to a fleet of which what is begun is a part; 0 for none.
func (c call) fleet() int64 {
	if c.part == nil {
		return 0
	}
	return c.part.fleet
}

// claimable refuses a target that is another environment's too.
func (s *deploying) claimable(c call, p targetContext, session engine.Session, state ledger.State) error {
	if c.part == nil || claim(p, state) == nil {
		return s.targets.claimable(c, p, session, state)
	}
	found, err := c.part.distinct()
	if err != nil {
		return err
	}
	return unsharedIn(c, p, session, found)
}

func forwardRequest(through string, policy plan.Policy, whole bool) (deploymentRequest, error) {
	var number step.Number
	if through != "" {
		var err error
		if number, err = step.ParseNumber(through); err != nil {
			return deploymentRequest{}, badRequest(nil, "through: %s", err)
		}
	}
	return deploymentRequest{through: number,
		plan: func(view plan.View) (plan.Plan, error) {
			p, err := plan.Forward(view, number)
			p.OnFailure, p.Whole = policy, whole
			return p, err
		},
		gate: gate.Forward,
	}, nil
}

func (s *deploying) rollbackRequest(ctx context.Context, p targetContext, in rollbackIn) (deploymentRequest, error) {
	way := plan.Way{Last: in.Last, Each: p.environment.Fleet != nil}
	given := 0
	if in.Last != 0 {
		given++
	}
	if in.To != "" {
		given++
		var err error
		if way.To, err = step.ParseNumber(in.To); err != nil {
			return deploymentRequest{}, badRequest(nil, "to: %s", err)
		}
	}
	if in.Deployment != 0 {
		given++
		way.Deployment = fmt.Sprint(in.Deployment)
		switch known, err := s.Records.Deployment(ctx, in.Deployment); {
		case err == nil:
			way.Began = known.StartedAt.Add(-apart)
		case !errors.Is(err, records.ErrNotFound):
			return deploymentRequest{}, err
		}
	}
	if in.Release != "" {
		given++
		_, sealed, err := s.library.sealedSteps(ctx, p.lane.Name, in.Release)
		if err != nil {
			return deploymentRequest{}, err
		}
		way.Keep = map[step.Number]bool{}
		for _, kept := range sealed {
			way.Keep[kept.Number] = true
		}
	}
	if given != 1 || in.Last < 0 {
		return deploymentRequest{}, badRequest(
			nil,
			"give exactly one of last (a number above 0), to, deployment and release",
		)
	}
	return s.back(ctx, p, way), nil
}

// apart is by how much the clocks of a service and of its records may differ.
const apart = 10 * time.Minute

// back is a rollback that goes as far as way says.
func (s *deploying) back(ctx context.Context, p targetContext, way plan.Way) deploymentRequest {
	return deploymentRequest{
		back: true,
		plan: func(view plan.View) (plan.Plan, error) { return plan.Back(view, way, s.targets.versions(ctx, p)) },
		gate: func(f gate.Facts) gate.Result {
			if f.Asks.Approvals == 0 && len(f.Asks.Signers) == 0 {
				return gate.Back(f, nil) // which ways back run does not matter to it
			}
			planned, err := plan.Back(f.View, way, s.targets.versions(ctx, p))
			if err != nil {
				planned = plan.Plan{} // which is told when the plan is made
			}
			return gate.Back(f, planned.Actions)
		},
	}
}

// leastShown is how many digits of a shown plan's digest tell it apart.
const leastShown = 12

// deploy begins a deployment, unless the service is stopping.
func (s *deploying) deploy(c call, p targetContext, w deploymentRequest) (*api.Promoted, error) {
	if !s.running.Enter() {
		return nil, refuse(
			http.StatusServiceUnavailable, "refused", "The service is stopping",
			by("try again once it is back"),
			"the service is stopping",
		)
	}
	if err := s.targets.quiet(c, p); err != nil { // before a connection is spent on it
		s.running.Leave()
		return nil, err
	}
	session, err := s.targets.connect(
		c, p,
		fmt.Sprintf("vorrang deployment on %s/%s by %s", p.lane.Name, p.environment.Name, c.actor),
	)
	if err != nil {
		s.running.Leave()
		return nil, err
	}
	answer, err := s.begin(c, p, session, w)
	if err != nil || answer.Nothing {
		session.Close()
		s.running.Leave()
	}
	return answer, err
}

// begin takes the target's lock, asks the gate, and lets the plan run in the
// background, where the gate is asked once more. The workers own the session if a deployment begins.
func (s *deploying) begin(c call, p targetContext, session engine.Session, w deploymentRequest) (*api.Promoted, error) {
	if err := s.targets.lock(c, p, session); err != nil {
		return nil, err
	}
	if err := s.others.abandoned.CloseAt(c, p.lane.Name, p.environment.Name, session); err != nil {
		return nil, err
	}
	p, err := s.targets.again(c, p) // as it is now that nobody else deploys
	if err != nil {
		return nil, err
	}
	if c.part != nil {
		w.ended, w.befores = c.part.ended, c.part.befores
	}
	facts, result, notes, err := s.clear(c, p, session, w)
	if err != nil {
		return nil, err
	}
	planned, err := w.plan(facts.View)
	if err == nil {
		err = planned.Promise()
	}
	if err != nil {
		return nil, err
	}
	if c.part != nil {
		if err := c.part.within(planned); err != nil {
			return nil, err
		}
	}
	if !w.isShown(planned) {
		return nil, refused(p.do(remedy.LookAtPlan, "read it again, and confirm what is shown then"), notShown)
	}
	if err := s.targets.allUndoable(c, p, session, planned); err != nil {
		return nil, err
	}
	if err := s.claimable(c, p, session, facts.View.State); err != nil {
		return nil, err
	}
	if len(planned.Actions) == 0 && !planned.Empties {
		return &api.Promoted{Nothing: true, Steps: len(p.catalogue), Gate: result.Checks, Settled: notes}, nil
	}
	if err := session.CreateLedger(c); err != nil {
		return nil, err
	}
	d, err := s.Records.Begin(c, records.Deployment{Lane: p.lane.Name, Environment: p.environment.Name,
		Direction: planned.Direction, Actor: c.actor, Plan: planned, Gate: result, Release: facts.Release,
		Digest: facts.Digest, Scheduled: c.scheduled, Fleet: c.fleet()})
	if err != nil {
		return nil, busy(p, err)
	}
	w.id, w.trace = requestID(c), traceOf(c)
	s.run(d, p, session, w, notes)
	c.status(http.StatusAccepted)
	c.note("deployment", d.ID)
	shown := deploymentOf(d, true)
	return &api.Promoted{Deployment: &shown, Gate: result.Checks, Settled: notes}, nil
}

// clear asks the gate about what is seen under the target's lock, and settles the
// steps in doubt that their check decides. A gate that is held is an error.
func (s *deploying) clear(
	c call, p targetContext, session engine.Session, w deploymentRequest,
) (facts gate.Facts, result gate.Result, notes []string, err error) {
	if w.first != nil {
		if err := w.first(p, session); err != nil {
			return facts, result, nil, err
		}
	}
	who := promotionRequest{through: w.through, actor: c.actor, back: w.back, befores: w.befores}
	if facts, err = s.gates.underLock(c, p, session, who); err != nil {
		return facts, result, nil, err
	}
	if result = w.gate(facts); result.Held() {
		return facts, result, nil, held(p, result, nil)
	}
	notes, err = s.settleDecided(c, p, session, &facts)
	return facts, result, notes, err
}

// settleDecided records what became of the steps in doubt whose check decides
// it, and looks again.
func (s *deploying) settleDecided(
	c call, p targetContext, session engine.Session, facts *gate.Facts,
) (notes []string, err error) {
	var entries []ledger.Entry
	notes = []string{}
	for _, standing := range facts.View.InDoubt() {
		doubt := facts.Doubt(standing.Step.Number)
		if doubt.Verdict == evidence.Unclear {
			continue
		}
		e, err := s.targets.evidenceOf(c, p, session, standing)
		if err != nil {
			return notes, err
		}
		entries = append(entries, settled(standing, e, string(doubt.Verdict), "by its check: "+doubt.Why, c.actor, nil))
		notes = append(
			notes,
			fmt.Sprintf(
				"step %s was in doubt, and is settled as %s: %s",
				standing.Step.Number, doubt.Verdict, doubt.Why,
			),
		)
	}
	if len(entries) == 0 {
		return notes, nil
	}
	if err := s.repairs.write(c, p, session, facts.View.State, entries); err != nil {
		return notes, err
	}
	again, _, err := s.targets.look(c, p, session)
	facts.View = again.View
	return notes, err
}

// busy turns a deployment that is under way into a held gate.
func busy(p targetContext, err error) error {
	var running *records.RunningError
	if !errors.As(err, &running) {
		return err
	}
	facts := gate.Facts{Lane: p.lane.Name, Running: runningOf(&running.Deployment)}
	for _, check := range gate.Forward(facts).Holds() {
		return held(p, gate.Result{Checks: []gate.Check{check}}, &running.Deployment)
	}
	return err
}

func deploymentOf(d records.Deployment, whole bool) api.Deployment {
	shown := api.Deployment{
		ID:          d.ID,
		Lane:        d.Lane,
		Environment: d.Environment,
		Direction:   d.Direction,
		Outcome:     d.Outcome,
		Fleet:       d.Fleet,
		Release:     d.Release,
		OnFailure:   d.Plan.OnFailure,
		Whole:       d.Plan.Whole,
		Rebuild:     d.Plan.Empties,
		Actor:       d.Actor,
		Planned:     d.Planned,
		Failure:     d.Failure,
		StartedAt:   d.StartedAt,
		EndedAt:     d.EndedAt,
	}
	if !whole {
		return shown
	}
	shown.Gate = d.Gate.Checks
	for _, a := range d.Plan.Actions {
		shown.Steps = append(shown.Steps, api.StepRef{Number: a.Step.Number, Slug: a.Step.Slug, Direction: a.Direction})
	}
	return shown
}
