package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/service/api"
	"vorrang/target/postgres"
)

type promoteIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Through     string `json:"through,omitempty" description:"The last step to apply; all that wait if absent."`
}

func (s *Service) promote(c call, in *promoteIn) (*api.Promoted, error) {
	p, err := s.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	wish, err := forwardWish(in.Through)
	if err != nil {
		return nil, err
	}
	return s.deploy(c, p, wish)
}

type rollbackIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Steps       int    `json:"steps,omitempty" description:"The last so many."`
	To          string `json:"to,omitempty" description:"Everything above this step; 0 is everything."`
	Deployment  int64  `json:"deployment,omitempty" description:"What this deployment applied."`
	Confirm     string `json:"confirm,omitempty" description:"The environment's name, typed; needed where it is not disposable."`
}

func (s *Service) rollback(c call, in *rollbackIn) (*api.Promoted, error) {
	p, err := s.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	wish, err := s.backWish(c, p, in.Steps, in.To, in.Deployment)
	if err != nil {
		return nil, err
	}
	if !p.environment.Disposable && in.Confirm != in.Environment {
		return nil, refused(fmt.Sprintf("look at the SQL first (vorrang preview), then type the environment's name: -confirm %s", in.Environment),
			"a rollback on %s, which is not disposable, needs its name typed as confirmation", in.Environment)
	}
	return s.deploy(c, p, wish)
}

// wish is what somebody wants done: how to plan it, and what to ask first.
type wish struct {
	plan func(plan.View) (plan.Plan, error)
	gate func(gate.Facts) gate.Result
}

func forwardWish(through string) (wish, error) {
	var number step.Number
	if through != "" {
		var err error
		if number, err = step.ParseNumber(through); err != nil {
			return wish{}, badRequest("", "through: %s", err)
		}
	}
	return wish{
		plan: func(view plan.View) (plan.Plan, error) { return plan.Forward(view, number) },
		gate: gate.Forward,
	}, nil
}

func (s *Service) backWish(ctx context.Context, p place, steps int, to string, deployment int64) (wish, error) {
	way := plan.Way{Steps: steps}
	given := 0
	if steps != 0 {
		given++
	}
	if to != "" {
		given++
		var err error
		if way.To, err = step.ParseNumber(to); err != nil {
			return wish{}, badRequest("", "to: %s", err)
		}
	}
	if deployment != 0 {
		given++
		way.Deployment = fmt.Sprint(deployment)
	}
	if given != 1 || steps < 0 {
		return wish{}, badRequest("", "give exactly one of steps (a number above 0), to and deployment")
	}
	return wish{
		plan: func(view plan.View) (plan.Plan, error) { return plan.Back(view, way, s.versions(ctx, p)) },
		gate: gate.Back,
	}, nil
}

// lockPatience is how long to wait for a lock that no deployment of ours holds:
// the session of a service that was killed ends within seconds.
const lockPatience = 5 * time.Second

// deploy takes the target's lock, asks the gate, and lets the plan run in the
// background. Everything that the gate looked at stays as it is until then,
// since the lock is held.
func (s *Service) deploy(c call, p place, w wish) (*api.Promoted, error) {
	if !s.crew.enter() {
		return nil, refuse(http.StatusServiceUnavailable, "refused", "The service is stopping", "try again once it is back", "the service is stopping")
	}
	begun := false
	defer func() {
		if !begun {
			s.crew.leave()
		}
	}()
	session, err := connect(c, p.environment, fmt.Sprintf("vorrang deployment on %s/%s by %s", p.lane.Name, p.environment.Name, c.actor))
	if err != nil {
		return nil, err
	}
	defer func() {
		if !begun {
			session.Close()
		}
	}()
	if err := s.lock(c, p, session); err != nil {
		return nil, err
	}
	facts, _, err := s.look(c, p, session)
	if err != nil {
		return nil, err
	}
	result := w.gate(facts)
	if result.Held() {
		return nil, held(p, result, nil)
	}
	planned, err := w.plan(facts.View)
	if err != nil {
		return nil, err
	}
	if len(planned.Actions) == 0 {
		return &api.Promoted{Nothing: true, Gate: result.Checks}, nil
	}
	if err := session.CreateLedger(c); err != nil {
		return nil, err
	}
	d, err := s.Records.Begin(c, records.Deployment{Lane: p.lane.Name, Environment: p.environment.Name,
		Direction: planned.Direction, Actor: c.actor, Plan: planned, Gate: result})
	if err != nil {
		return nil, s.busy(c, p, err)
	}
	begun = true
	s.crew.run(p, session, facts.View.State.Head, d)
	c.fiber.Status(http.StatusAccepted)
	shown := deploymentOf(d, true)
	return &api.Promoted{Deployment: &shown, Gate: result.Checks}, nil
}

// lock takes the target's lock, or says which deployment has it.
func (s *Service) lock(c call, p place, session *postgres.Session) error {
	deadline := time.Now().Add(lockPatience)
	for {
		err := session.Lock(c)
		var locked *postgres.LockedError
		if !errors.As(err, &locked) {
			return err
		}
		running, lookErr := s.Records.Running(c, p.lane.Name, p.environment.Name)
		if lookErr != nil {
			return lookErr
		}
		if running != nil {
			return s.busy(c, p, &records.RunningError{Deployment: *running})
		}
		if time.Now().After(deadline) {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// busy turns a deployment that is under way into a held gate.
func (s *Service) busy(_ call, p place, err error) error {
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

type baselineIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	At          string `json:"at" required:"true" description:"The last step that the database already contains; 0 for none."`
}

func (s *Service) baseline(c call, in *baselineIn) (*api.Recorded, error) {
	p, err := s.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	at, err := step.ParseNumber(in.At)
	if err != nil {
		return nil, badRequest("", "at: %s", err)
	}
	return s.record(c, p, func(session *postgres.Session, facts gate.Facts) (ledger.Entry, string, error) {
		if facts.Entries > 0 {
			return ledger.Entry{}, "", refused("vorrang status says where it stands",
				"%s has a ledger of %s already; a baseline is for databases that have none", in.Environment, count(facts.Entries, "entry", "entries"))
		}
		covers, slug, err := covered(p, at)
		if err != nil {
			return ledger.Entry{}, "", err
		}
		if !facts.Unlisted.Any() && len(covers) > 0 {
			return ledger.Entry{}, "", refused(fmt.Sprintf("vorrang promote -lane %s -to %s", in.Lane, in.Environment),
				"%s is empty: there is nothing that steps could already have made; promote instead", in.Environment)
		}
		entry := ledger.Entry{Action: ledger.Baselined, Step: at, Slug: slug, Actor: c.actor,
			Detail: ledger.Detail{Tables: facts.Unlisted.Tables, Covers: covers}.JSON()}
		message := fmt.Sprintf("%s begins at step %s: %s covered, nothing was run", in.Environment, at, count(len(covers), "step is", "steps are"))
		return entry, message, nil
	})
}

// covered lists the catalogue's steps up to a number.
func covered(p place, at step.Number) (covers []step.Number, slug string, err error) {
	covers = []step.Number{}
	for _, c := range p.catalogue {
		if step.Compare(c.Number, at) <= 0 {
			covers = append(covers, c.Number)
			slug = c.Slug
		}
	}
	if at == "0" {
		return covers, "", nil
	}
	if len(covers) == 0 || covers[len(covers)-1] != at {
		return nil, "", refused("vorrang status lists the steps; vorrang submit sends new ones", "there is no step %s in the catalogue", at)
	}
	return covers, slug, nil
}

type settleIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Step        string `json:"step" required:"true"`
	As          string `json:"as" required:"true" enum:"applied,not-applied" description:"Whether the statement in doubt, and so the step, took effect."`
	Reason      string `json:"reason" required:"true" minLength:"1"`
}

func (s *Service) settle(c call, in *settleIn) (*api.Recorded, error) {
	p, err := s.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	number, err := step.ParseNumber(in.Step)
	if err != nil {
		return nil, badRequest("", "step: %s", err)
	}
	if in.As != ledger.SettledApplied && in.As != ledger.SettledNotApplied {
		return nil, badRequest("", "as: it is applied or not-applied, not %q", in.As)
	}
	if cleanActor(in.Reason, "") == "" {
		return nil, badRequest("", "reason: say how you know; it stands in the ledger")
	}
	return s.record(c, p, func(_ *postgres.Session, facts gate.Facts) (ledger.Entry, string, error) {
		standing, known := facts.View.Find(number)
		if !known || standing.State.Status != ledger.StatusInDoubt {
			return ledger.Entry{}, "", refused("vorrang status says what every step's state is", "step %s is not in doubt on %s", number, in.Environment)
		}
		progress := standing.State.Progress
		last := progress.Statement >= progress.Of
		if in.As == ledger.SettledApplied && !last {
			return ledger.Entry{}, "", refused("settle it as not-applied, and the next promotion goes on at that statement; "+
				"or carry the remaining statements out by hand before you settle it as applied",
				"step %s stopped at statement %d of %d; as a whole it cannot have been applied", number, progress.Statement, progress.Of)
		}
		progress.As, progress.Reason, progress.Error = in.As, cleanActor(in.Reason, ""), ""
		entry := ledger.Entry{Action: ledger.Settled, Step: number, Slug: standing.State.Slug, Checksum: standing.State.Checksum,
			Actor: c.actor, Detail: progress.JSON()}
		return entry, fmt.Sprintf("step %s is settled as %s on %s", number, in.As, in.Environment), nil
	})
}

// record writes one entry of somebody's word into a ledger, under the lock.
func (s *Service) record(c call, p place, make func(*postgres.Session, gate.Facts) (ledger.Entry, string, error)) (*api.Recorded, error) {
	session, err := connect(c, p.environment, "vorrangd")
	if err != nil {
		return nil, err
	}
	defer session.Close()
	if err := s.lock(c, p, session); err != nil {
		return nil, err
	}
	facts, _, err := s.look(c, p, session)
	if err != nil {
		return nil, err
	}
	if facts.Chain != nil {
		return nil, held(p, gate.Back(facts), nil)
	}
	entry, message, err := make(session, facts)
	if err != nil {
		return nil, err
	}
	if err := session.CreateLedger(c); err != nil {
		return nil, err
	}
	entry = facts.View.State.Head.Next(entry, time.Now())
	if err := session.Append(c, entry); err != nil {
		return nil, err
	}
	s.Log.Info("ledger entry written", "lane", p.lane.Name, "environment", p.environment.Name, "action", entry.Action, "step", entry.Step, "actor", c.actor)
	return &api.Recorded{Entry: entry, Message: message}, s.Records.KeepHead(c, p.lane.Name, p.environment.Name, entry.Head())
}

func deploymentOf(d records.Deployment, whole bool) api.Deployment {
	shown := api.Deployment{ID: d.ID, Lane: d.Lane, Environment: d.Environment, Direction: d.Direction, Outcome: d.Outcome,
		Actor: d.Actor, Planned: len(d.Plan.Actions), Failure: d.Failure, StartedAt: d.StartedAt, EndedAt: d.EndedAt}
	if !whole {
		return shown
	}
	shown.Gate = d.Gate.Checks
	for _, a := range d.Plan.Actions {
		shown.Steps = append(shown.Steps, api.StepRef{Number: a.Step.Number, Slug: a.Step.Slug, Direction: a.Direction})
	}
	return shown
}
