package service

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"sync"

	"vorrang/core/access"
	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/review"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/service/api"
)

// setting reads what a target tells of itself for a review: its schema, what its server
// counts, where that does, and, with rows, whether rows stand in the way of a constraint.
func (s *gates) setting(
	ctx context.Context, p targetContext, session engine.Session, rows bool,
) (review.Setting, error) {
	in := review.Setting{Waiting: true}
	if asker, can := session.(engine.Asker); can && rows {
		const most = 1000
		in.Count = func(query string) (int64, int64, bool) {
			n, err := asker.CountRows(ctx, query, most)
			return n, most, err == nil
		}
	}
	seen, err := session.SnapshotWithNeeds(ctx, p.environment.Schemas)
	if err != nil {
		return in, err
	}
	in.Schema = &seen
	if counter, can := session.(engine.Counter); can {
		in.Figures, err = counter.Figures(ctx)
		in.Expanded = sync.OnceValue(func() []review.Expanded {
			list, err := s.Records.Expanded(ctx, p.lane.Name, p.environment.Name)
			if err != nil { // the review says since when the server counts, then
				s.Log.Warn("what was counted when steps expanded is not known", "error", err)
			}
			return list
		})
	}
	return in, err
}

// askFindings adds what a review finds in the steps that would be promoted, where the
// gate asks for that, or the request.
func (s *gates) askFindings(
	ctx context.Context, p targetContext, session engine.Session, facts *gate.Facts, who promotionRequest,
) error {
	if p.environment.Asks().Findings == "" && !who.findings {
		return nil
	}
	planned, err := plan.Forward(facts.View, who.through)
	if err != nil || len(planned.Actions) == 0 || who.back {
		return nil // the promotion says so itself
	}
	in, err := s.setting(ctx, p, session, !who.passing)
	if err != nil {
		return err
	}
	in.Phases = map[step.Phase]bool{}
	for _, standing := range facts.View.Steps {
		if standing.State.Status.Present() {
			in.Phases[standing.Step.Options.Phase] = true
		}
	}
	if facts.Findings, err = s.reviewPlan(ctx, p, in, planned); err != nil {
		return err
	}
	return s.measured(ctx, p, planned, facts)
}

// measured adds what only the rehearsal of the plan showed.
func (s *gates) measured(ctx context.Context, p targetContext, planned plan.Plan, facts *gate.Facts) error {
	kept, err := s.Records.Rehearsed(ctx, p.lane.Name, p.environment.Name, planned.Digest(), "")
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	files, rules := map[step.Number]string{}, p.dialect().Findings()
	for _, a := range planned.Actions {
		files[a.Step.Number] = a.Step.Forward.Name
	}
	list := kept.Result.Findings(rules, facts.Findings, files)
	for _, a := range planned.Actions {
		whole := step.Step{Number: a.Step.Number, Forward: step.File{Name: a.Step.Forward.Name, Options: a.Step.Options}}
		review.Accept(whole, list, rules)
	}
	facts.Findings = append(facts.Findings, list...)
	return nil
}

// reviewPlan reads the steps of a plan that go forward.
func (s *gates) reviewPlan(
	ctx context.Context, p targetContext, in review.Setting, planned plan.Plan,
) (list []review.Finding, err error) {
	reviewer, rules, texts := p.dialect().Reviewer(in), p.dialect().Findings(), s.library.texts(planned)
	for _, a := range planned.Actions {
		if a.Direction != ledger.Forward {
			continue
		}
		whole, err := s.withTexts(ctx, a.Step, texts)
		if err != nil {
			return nil, err
		}
		found := reviewer.Read(whole)
		review.Accept(whole, found, rules)
		list = append(list, found...)
	}
	return list, nil
}

// withTexts is a step of a plan as the folder had it.
func (s *gates) withTexts(
	ctx context.Context, planned plan.Step, texts func(context.Context, step.Checksum) ([]byte, error),
) (step.Step, error) {
	whole := step.Step{Number: planned.Number, Slug: planned.Slug}
	options := planned.Options
	whole.Forward = step.File{Name: planned.Forward.Name, Options: options}
	var err error
	if whole.Forward.Bytes, err = texts(ctx, planned.Forward.Checksum); err != nil {
		return whole, err
	}
	if planned.Check != nil { // it was read with the forward text, and is not reviewed
		if _, err := texts(ctx, planned.Check.Checksum); err != nil {
			return whole, err
		}
	}
	if planned.Back != nil {
		back := step.File{Name: planned.Back.Name}
		back.Bytes, err = s.Records.Text(ctx, planned.Back.Checksum)
		whole.Back = &back
	}
	return whole, err
}

type reviewIn struct {
	Lane        string `path:"lane"`
	Environment string `query:"environment" description:"Against its schema, with its sizes; the steps' text alone if absent."`
	All         bool   `query:"all" description:"All steps of the folder; those that are new or edited if absent."`
}

// review says what a reviewer should know of the steps of a folder. It keeps nothing.
func (s *catalogue) review(c call, in *reviewIn) (*api.Reviewed, error) {
	l, err := s.targets.lane(c, in.Lane)
	if err != nil {
		return nil, err
	}
	dialect, err := s.targets.dialect(l)
	if err != nil {
		return nil, err
	}
	sent, err := s.folder(c, in.Lane)
	if err != nil {
		return nil, err
	}
	defer sent.close()
	submission, steps, difference := sent.submission, sent.steps, sent.difference
	setting, present, done, err := s.settingOf(c, in)
	if err != nil {
		return nil, err
	}
	defer done()
	wanted := func(s step.Step) bool { return !present[s.Number] }
	if in.Environment == "" && !in.All {
		changed := changedIn(difference)
		wanted = func(s step.Step) bool { return changed[s.Number] }
	}
	for _, s := range steps {
		if !wanted(s) {
			setting.Phases[s.Options().Phase] = true
		}
	}
	r := reviewing{dialect: dialect, reviewer: dialect.Reviewer(setting), may: l.StepsMay}
	for _, s := range steps {
		if !wanted(s) {
			continue
		}
		whole, err := reload(c, submission, s)
		if err != nil {
			return nil, err
		}
		r.read(whole)
	}
	if len(r.problems) > 0 { // as a submission would be refused
		return nil, r.problems
	}
	answer := &api.Reviewed{
		Environment: in.Environment, Steps: r.steps, Folder: len(steps), Findings: append([]review.Finding{}, r.found...),
		Rows: setting.Count != nil, Overlaps: plan.Overlaps(r.phased),
		Rules: []review.Rule{}, Notes: append([]step.Problem{}, r.notes...),
	}
	for _, rule := range dialect.Findings().All() {
		if slices.ContainsFunc(r.found, func(f review.Finding) bool { return f.Code == rule.Code }) {
			answer.Rules = append(answer.Rules, rule)
		}
	}
	return answer, nil
}

// settingOf reads the environment that a review is for, and which steps are there
// already; nothing where it is for the text alone. done ends the session that answers
// questions about rows.
func (s *catalogue) settingOf(c call, in *reviewIn) (
	setting review.Setting, present map[step.Number]bool, done func(), err error,
) {
	setting, present, done = review.Setting{Phases: map[step.Phase]bool{}}, map[step.Number]bool{}, func() {}
	if in.Environment == "" {
		return setting, present, done, nil
	}
	p, err := s.targets.place(c, in.Lane, in.Environment)
	if err != nil {
		return setting, present, done, err
	}
	session, err := s.targets.connect(c, p, "vorrangd review")
	if err != nil {
		return setting, present, done, err
	}
	facts, _, err := s.targets.look(c, p, session)
	if err == nil {
		// a count by an expression of one's own tells what rows hold: a reader is not given it
		asks := access.By(access.Releaser, access.Approver, access.Keeper)
		may := c.who.Grants.Allow(asks, access.Scope{Lane: in.Lane, Environment: in.Environment})
		setting, err = s.gates.setting(c, p, session, may)
	}
	if err != nil {
		session.Close()
		return setting, present, done, err
	}
	setting.Phases = map[step.Phase]bool{}
	for _, standing := range facts.View.Steps {
		if standing.State.Status.Present() && !in.All {
			present[standing.Step.Number] = true
		}
	}
	return setting, present, session.Close, nil
}

// changedIn are the steps that a folder adds or changes.
func changedIn(d records.Difference) map[step.Number]bool {
	changed := map[step.Number]bool{}
	for _, list := range [][]records.Change{d.New, d.Edited} {
		for _, change := range list {
			changed[change.Step.Number] = true
		}
	}
	return changed
}

// reviewing is a review of steps that are read one after the other.
type reviewing struct {
	dialect  engine.Dialect
	reviewer review.Reviewer
	steps    int
	phased   []plan.Phased
	found    []review.Finding
	may      []string // what of step.Special the lane lets steps change
	problems step.Problems
	notes    step.Problems // what cannot be read, and what the authors accept and is not there
}

func (r *reviewing) read(whole step.Step) {
	problems, notes := r.dialect.Review(whole, r.may)
	r.problems, r.notes = append(r.problems, problems...), append(r.notes, notes...)
	found := r.reviewer.Read(whole)
	r.notes = append(r.notes, review.Accept(whole, found, r.dialect.Findings())...)
	r.found = append(r.found, found...)
	r.phased = append(r.phased, plan.Phased{Number: whole.Number, Phase: whole.Options().Phase})
	r.steps++
}

type engineIn struct {
	Engine string `path:"engine"`
}

// findings lists the rules of an engine's reviews.
func (s *views) findings(c call, in *engineIn) (*api.Rules, error) {
	e, err := s.Engines.Named(in.Engine)
	if err != nil {
		return nil, refuse(
			http.StatusNotFound,
			"not-found",
			"Not found",
			see(remedy.LookAtLanes, "see what the lanes work on"),
			"%s",
			err,
		)
	}
	rules := e.Dialect().Findings()
	return &api.Rules{Setup: rules.Setup, Rules: rules.All()}, nil
}
