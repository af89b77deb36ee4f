package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

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

// lookTimeout bounds how long one environment may keep a status waiting.
const lookTimeout = 8 * time.Second

type laneIn struct {
	Lane string `path:"lane"`
}

type environmentIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
}

type statusIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Steps       string `query:"steps" enum:"none,open,all" default:"none" description:"Which steps to list; open means those that wait or have trouble."`
	Wait        int    `query:"wait" minimum:"0" maximum:"60" description:"The most seconds that the answer waits for the target. Where it is not read by then, it stands as it was seen last, without steps and gate, and says reading. 0 waits until it is read."`
}

type lanesIn struct {
	Search string `query:"search" description:"Only those in whose name or purpose this stands."`
	After  string `query:"after" description:"Only those whose names come after this: next of the page before."`
	Limit  int    `query:"limit" default:"200" minimum:"1" maximum:"1000"`
	Look   string `query:"look" enum:"yes,no" default:"yes" description:"no: what is declared only. No target is asked, so none counts as reached."`
	Wait   int    `query:"wait" minimum:"0" maximum:"60" description:"The most seconds that the answer waits for targets. One that is not read by then stands as it was seen last, and says reading. 0 waits until all are read."`
}

func (s *views) lanes(c call, in *lanesIn) (*api.Lanes, error) {
	ctx := waiting(fresh(c), in.Wait)
	lanes, err := s.targets.lanes(ctx)
	if err != nil {
		return nil, err
	}
	lanes = slices.DeleteFunc(lanes, func(l lane.Lane) bool {
		return !c.who.mayLook(l.Name, "") || l.Name <= in.After || !contains(in.Search, l.Name+"\n"+l.About)
	})
	answer := &api.Lanes{}
	lanes, answer.Next = page(lanes, in.Limit, func(l lane.Lane) string { return l.Name })
	names := make([]string, len(lanes))
	for i, l := range lanes {
		names[i] = l.Name
	}
	catalogues, err := s.Records.Catalogues(c, names...)
	if err != nil {
		return nil, err
	}
	answer.Lanes = make([]api.LaneStatus, len(lanes))
	errs := make([]error, len(lanes))
	each(lanes, mostLooks, func(i int, l lane.Lane) {
		answer.Lanes[i], errs[i] = s.laneStatus(ctx, c.who, l, catalogues[l.Name], in.Look != "no")
	})
	if err := errors.Join(errs...); err != nil {
		return nil, err
	}
	var statuses []*api.EnvironmentStatus
	for _, l := range answer.Lanes {
		for i := range l.Environments {
			statuses = append(statuses, &l.Environments[i])
		}
	}
	return answer, s.runningOfUnread(c, statuses...)
}

// runningOfUnread adds what runs, and what ran last, to statuses that the answer did not wait for: that is
// known without the targets, and asked in one question.
func (s *views) runningOfUnread(ctx context.Context, statuses ...*api.EnvironmentStatus) error {
	var ofLanes, environments []string
	unread := map[string]*api.EnvironmentStatus{}
	for _, one := range statuses {
		if one.Reading && one.Fleet == nil {
			ofLanes, environments = append(ofLanes, one.Lane), append(environments, one.Environment)
			unread[one.Lane+"/"+one.Environment] = one
		}
	}
	if len(unread) == 0 {
		return nil
	}
	newest, err := s.Records.LastDeployments(ctx, ofLanes, environments)
	if err != nil {
		return err
	}
	for _, one := range unread {
		one.Running, one.Last = nil, nil
	}
	for _, d := range newest {
		addLast(unread[d.Lane+"/"+d.Environment], d)
	}
	return nil
}

func (s *views) oneLane(c call, in *laneIn) (*api.LaneStatus, error) {
	l, err := s.targets.lane(c, in.Lane)
	if err != nil {
		return nil, err
	}
	catalogue, err := s.Records.Catalogue(c, l.Name)
	if err != nil {
		return nil, err
	}
	status, err := s.laneStatus(fresh(c), c.who, l, catalogue, true)
	return &status, err
}

// laneStatus looks at all environments at once, but for those that the caller
// may not read; where look is false, it only names them.
func (s *views) laneStatus(
	ctx context.Context, who caller, l lane.Lane, catalogue []plan.Step, look bool,
) (api.LaneStatus, error) {
	visible := slices.DeleteFunc(
		slices.Clone(l.Environments),
		func(e lane.Environment) bool { return !who.mayLook(l.Name, e.Name) },
	)
	status := api.LaneStatus{Lane: l.Name, About: l.About, Engine: l.Engine, Steps: len(catalogue),
		Environments: make([]api.EnvironmentStatus, len(visible))}
	if n := len(catalogue); n > 0 {
		status.Newest = catalogue[n-1].Number
	}
	errs := make([]error, len(visible))
	each(visible, mostLooks, func(i int, e lane.Environment) {
		if !look {
			status.Environments[i] = nothingSeen(s.targets.at(l, e, catalogue))
			return
		}
		status.Environments[i], errs[i] = s.environmentStatus(ctx, s.targets.at(l, e, catalogue), "none")
	})
	return status, errors.Join(errs...)
}

func (s *views) status(c call, in *statusIn) (*api.EnvironmentStatus, error) {
	p, err := s.targets.environment(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	status, err := s.environmentStatus(waiting(fresh(c), in.Wait), p, in.Steps)
	if err != nil {
		return nil, err
	}
	return &status, s.runningOfUnread(c, &status)
}

// environmentStatus looks at one target, once for all who ask at the same time, whichever steps
// they want: none, open or all. The look reads the catalogue itself: others may share it, who know of a later
// submission than the caller did. A target that cannot be reached is a trouble, not an error.
func (s *views) environmentStatus(ctx context.Context, p targetContext, steps string) (api.EnvironmentStatus, error) {
	if p.environment.Fleet != nil {
		return s.fleetWithSteps(ctx, p, steps)
	}
	status, err := s.looking.once(ctx, p, steps != "none", func(ctx context.Context) (api.EnvironmentStatus, error) {
		now := p
		var err error
		if now.catalogue, err = s.Records.Catalogue(ctx, p.lane.Name); err != nil {
			return api.EnvironmentStatus{}, err
		}
		return s.statusNow(ctx, now, steps != "none")
	})
	switch steps {
	case "none":
		status.Steps = nil
	case "open":
		status.Steps = slices.DeleteFunc(slices.Clone(status.Steps), func(s api.StepStatus) bool { return !s.Open })
	}
	return status, err
}

// nothingSeen is a status before anybody looked: what is declared.
func nothingSeen(p targetContext) api.EnvironmentStatus {
	e := p.environment
	status := api.EnvironmentStatus{Lane: p.lane.Name, Environment: e.Name, Target: e.Target, Disposable: e.Disposable,
		OnFailure: p.lane.Policy(e), Trouble: []api.Trouble{}, Gate: []gate.Check{}}
	if e.Fleet != nil {
		status.Fleet = &api.FleetStatus{Targets: len(e.Fleet.Targets), Tolerate: e.Fleet.Tolerate, Groups: []api.FleetGroup{},
			Aside: []api.SetAside{}, Gone: e.Fleet.Gone}
	}
	return status
}

func (s *views) statusNow(ctx context.Context, p targetContext, steps bool) (api.EnvironmentStatus, error) {
	status := nothingSeen(p)
	running, err := s.lastDeployments(ctx, p, &status)
	if err != nil {
		return status, err
	}
	facts, err := s.gates.lookOnce(ctx, p, promotionRequest{passing: true})
	if ctx.Err() != nil { // nobody waits any more: that says nothing about the target
		return status, ctx.Err()
	}
	if err != nil {
		status.Trouble = append(status.Trouble, unreachable(err))
		return status, nil
	}
	facts.Running = runningOf(running)
	if err := s.gates.ask(ctx, p, &facts, promotionRequest{}); err != nil {
		return status, err
	}
	status.Reached = true
	fill(&status, facts, steps)
	troubles, err := s.failures(ctx, p, facts, &status)
	if err != nil {
		return status, err
	}
	status.Trouble = append(status.Trouble, troubles...)
	if err := s.tellUnknown(ctx, p, facts, &status); err != nil {
		return status, err
	}
	if err := s.tellDrift(ctx, p, &status); err != nil {
		return status, err
	}
	return status, s.library.compareTexts(ctx, p, &status)
}

// tellDrift adds the drift that the newest look found, where the gate does not
// ask for it.
func (s *views) tellDrift(ctx context.Context, p targetContext, status *api.EnvironmentStatus) error {
	if p.environment.Asks().Drift {
		return nil
	}
	look, err := s.targets.noted.newestLook(ctx, p, s.Records)
	if errors.Is(err, records.ErrNotFound) || err == nil && look.Since == nil {
		return nil
	}
	if err == nil {
		status.Trouble = append(status.Trouble, api.Trouble{Kind: string(gate.Drift), Differs: look.Fingerprint,
			Message: fmt.Sprintf(
				"%s from what the last deployment left, seen since %s",
				plural.Count(look.Objects, "object differs", "objects differ"),
				utc(*look.Since),
			),
			Remedies: []remedy.Remedy{p.at().Do(remedy.LookAtDrift).For("see what, and the ways out")}})
	}
	return err
}

func (s *views) lastDeployments(
	ctx context.Context, p targetContext, status *api.EnvironmentStatus,
) (*records.Deployment, error) {
	newest, err := s.Records.LastDeployments(ctx, []string{p.lane.Name}, []string{p.environment.Name})
	if err != nil {
		return nil, err
	}
	var running *records.Deployment
	for _, d := range newest {
		if addLast(status, d); d.EndedAt == nil {
			running = &d
		}
	}
	return running, nil
}

// addLast adds one of the newest deployments, the newest first, to the status of its environment.
func addLast(status *api.EnvironmentStatus, d records.Deployment) {
	shown := deploymentOf(d, false)
	if d.EndedAt == nil {
		status.Running = &shown
	} else if status.Last == nil {
		status.Last = &shown
	}
}

func runningOf(d *records.Deployment) *gate.Running {
	if d == nil {
		return nil
	}
	return &gate.Running{ID: fmt.Sprint(d.ID), Actor: d.Actor, Since: d.StartedAt}
}

func unreachable(err error) api.Trouble {
	var connect *engine.ConnectError
	if errors.As(err, &connect) {
		return api.Trouble{
			Kind:     "unreachable",
			Message:  connect.Message,
			Remedies: []remedy.Remedy{remedy.ByHand("%s", connect.Fix)},
		}
	}
	return api.Trouble{
		Kind:     "unreachable",
		Message:  "the target could not be read: " + err.Error(),
		Remedies: []remedy.Remedy{{Reason: "look whether it can be used", Act: remedy.LookAtTarget}},
	}
}

// fill puts what was seen into a status.
func fill(status *api.EnvironmentStatus, facts gate.Facts, steps bool) {
	view := facts.View
	status.At, status.Baseline, status.Entries = view.State.At(), view.State.Baseline, facts.Entries
	if at, known := view.Find(status.At); known {
		status.AtSlug = at.Step.Slug
	}
	for _, standing := range view.Steps {
		switch {
		case standing.State.Status == ledger.StatusCovered:
			status.Covered++
		case standing.State.Status.Present():
			status.Applied++
		case standing.Has(plan.NotHere):
			status.NotHere++
		case standing.Waits():
			status.Pending++
		}
		if steps {
			status.Steps = append(status.Steps, stepStatus(standing))
		}
	}
	result := gate.Forward(facts)
	status.Gate = result.Checks
	for _, hold := range result.Holds() {
		if !gate.Expected(hold.ID) {
			t := api.Trouble{Kind: string(hold.ID), Message: hold.Evidence, Remedies: hold.Remedies}
			if hold.ID == gate.Drift {
				t.Differs = hold.Subject()
			}
			status.Trouble = append(status.Trouble, t)
		}
	}
}

// open reports whether a step is worth a line where not all are shown.
func open(s plan.Standing) bool {
	return len(s.Flags) > 0 && !s.Has(plan.NotHere) || s.Waits() || s.State.Status == ledger.StatusInDoubt
}

// failures names the steps whose newest try failed, each with what can be done
// about it now: what the gate holds for comes before another try.
func (s *views) failures(
	ctx context.Context, p targetContext, facts gate.Facts, status *api.EnvironmentStatus,
) ([]api.Trouble, error) {
	var list []api.Trouble
	var hold gate.Check // the first; its zero value where the gate is clear
	if holds := (gate.Result{Checks: status.Gate}).Holds(); len(holds) > 0 {
		hold = holds[0]
	}
	again := p.at().Do(remedy.Promote)
	again.Arguments.NewRelease = facts.Asks.Release
	for _, st := range facts.View.Steps {
		number := st.Step.Number
		if st.State.Status != ledger.StatusFailed || st.State.Progress().Direction == ledger.Back ||
			facts.Stuck(number) ||
			st.Has(plan.NotHere) && !st.State.Partly() {
			continue
		}
		t := api.Trouble{Kind: "failed", Step: number,
			Message: fmt.Sprintf(
				"step %s (%s) failed in deployment %s: %s",
				number, st.Step.Slug, st.State.Deployment, st.State.Progress().Error,
			)}
		if st.State.Deployment == "" { // a word about it is newer than its last try
			t.Message = fmt.Sprintf("step %s (%s) was settled as %s, and has not run since", number, st.Step.Slug,
				st.State.Progress().As)
		}
		cause, err := s.causeOf(ctx, p, number)
		if err != nil {
			return nil, err
		}
		switch {
		case p.stopped(st, ledger.Forward, engine.Duplicate):
			t.Remedies = []remedy.Remedy{
				p.at().
					Step(remedy.Attest, number).
					For("something of it is there already; if somebody ran it by hand"),
			}
		case hold.ID != "" && hold.ID != gate.SealedRelease:
			t.Remedies = append(cause, remedy.ByHand("before another try, turn what the gate holds for (%s)", hold.ID))
			if gate.Expected(hold.ID) { // it has no line of its own that says how
				t.Remedies = append(t.Remedies, hold.Remedies...)
			}
		default:
			t.Remedies = append(cause, again.For("then promote again"))
			if p.stopped(st, ledger.Forward, engine.Missing) {
				if lacks := s.fixLacks(ctx, p, facts.View, again); len(lacks) > 0 {
					t.Remedies = lacks
				}
			}
		}
		list = append(list, t)
	}
	return list, nil
}

// causeOf says how the cause of a failure is put right: a sealed text cannot be.
func (s *views) causeOf(ctx context.Context, p targetContext, number step.Number) ([]remedy.Remedy, error) {
	sealed, err := s.Records.SealedIn(ctx, p.lane.Name, number)
	if err != nil || sealed == "" {
		return []remedy.Remedy{remedy.ByHand("fix the cause")}, err
	}
	attest := p.at().Step(remedy.Attest, number)
	attest.Arguments.Acknowledge = true
	return []remedy.Remedy{
		remedy.ByHand(
			"its text is sealed in release %s and stays: put right in the target what it stumbles over, by a step with a "+
				"number below %s that you cut with it",
			sealed, number,
		),
		attest.For(
			"or, if the text can never run, do what it should do in a new step, and record that nothing of it is needed",
		)}, nil
}

// stopped reports whether a step failed in a direction, by an error of a kind.
func (p targetContext) stopped(st plan.Standing, direction ledger.Direction, by engine.Kind) bool {
	progress := st.State.Progress()
	back := progress.Direction == ledger.Back
	return st.State.Status == ledger.StatusFailed && back == (direction == ledger.Back) &&
		p.engine.KindOf(progress.SQLState) == by
}

func stepStatus(s plan.Standing) api.StepStatus {
	status := api.StepStatus{Number: s.Step.Number, Slug: s.Step.Slug, State: s.State.Status, Flags: s.Flags,
		Open: open(s), Mode: s.Step.Options.Mode, Phase: s.Step.Options.Phase, Back: s.Step.Back != nil, Check: s.Step.Check != nil,
		Checksum: s.Step.Forward.Checksum, Applied: s.State.Checksum, Actor: s.State.Actor,
		Deployment: s.State.Deployment, DurationMS: s.State.DurationMS, HalfDone: s.State.Partly() &&
			s.State.Progress().Mode == step.Autocommit}
	if !s.State.At.IsZero() {
		status.At = &s.State.At
	}
	if s.Has(plan.Absent) {
		status.Checksum = ""
	}
	return status
}

// utc is a moment in words.
func utc(t time.Time) string { return t.UTC().Format(time.DateTime) + " UTC" }

func word(yes bool, then, otherwise string) string {
	if yes {
		return then
	}
	return otherwise
}
