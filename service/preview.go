package service

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"unicode/utf8"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/review"
	"vorrang/core/step"
	"vorrang/service/api"
)

type previewIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Through     string `query:"through" description:"Forward up to this step."`
	Last        int    `query:"last" minimum:"1" description:"Back: the last so many steps."`
	To          string `query:"to" description:"Back: everything above this step."`
	Deployment  int64  `query:"deployment" description:"Back: what this deployment applied."`
	Release     string `query:"release" description:"Forward: the steps of this release."`
	BackRelease string `query:"back_release" description:"Back: everything that is not in this release."`
	Standalone  bool   `query:"standalone" description:"Give one file for psql too, with the lock, a guard on the ledger's head, and the ledger rows."`
	Limit       int    `query:"limit" description:"The most bytes of SQL to give for one step; 0 means all."`
}

// preview says what a promotion, or with one of last, to and deployment a
// rollback, would run now. It changes nothing and takes no lock.
func (s *deploying) preview(c call, in *previewIn) (*api.Preview, error) {
	p, err := s.targets.environment(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	p, w, err := s.previewed(c, p, in)
	if err != nil {
		return nil, err
	}
	if p.environment.Fleet != nil {
		return s.previewFleet(c, p, w, in)
	}
	return s.previewOne(c, p, w, in)
}

// previewOne previews a deployment to one target.
func (s *deploying) previewOne(c call, p targetContext, w deploymentRequest, in *previewIn) (*api.Preview, error) {
	facts, err := s.gates.survey(
		c, p,
		promotionRequest{through: w.through, actor: c.asker(p.lane.Name, p.environment.Name), back: w.back, findings: true},
	)
	if err != nil {
		return nil, err
	}
	planned, err := w.plan(facts.View)
	if err != nil {
		return nil, err
	}
	result := w.gate(facts)
	answer := &api.Preview{
		Direction: planned.Direction,
		Actions:   []api.PreviewAction{},
		Gate:      result.Checks,
		Held:      result.Held(),
	}
	if in.Standalone {
		if answer.Standalone, err = s.standalone(c, p, facts, planned, result); err != nil {
			return nil, err
		}
	}
	answer.Overlaps = overlapsOf(planned)
	texts, digests := s.library.texts(planned), planned.Digests()
	for i, action := range planned.Actions {
		shown, err := s.previewAction(c, p.dialect(), texts, action, in.Limit)
		if err != nil {
			return nil, err
		}
		shown.Plan = digests[i]
		for _, f := range facts.Findings {
			if f.Step == action.Step.Number && action.Direction == ledger.Forward {
				shown.Findings = append(shown.Findings, f)
			}
		}
		answer.Actions = append(answer.Actions, shown)
	}
	return answer, nil
}

// previewed is the request that a preview is about.
func (s *deploying) previewed(
	c call, p targetContext, in *previewIn,
) (_ targetContext, w deploymentRequest, err error) {
	back := in.Last != 0 || in.To != "" || in.Deployment != 0 || in.BackRelease != ""
	if back && (in.Through != "" || in.Release != "") {
		return p, w, badRequest(nil, "through and release are of a promotion; last, to, deployment and back_release of a rollback")
	}
	if back {
		w, err = s.rollbackRequest(
			c, p,
			rollbackIn{Last: in.Last, To: in.To, Deployment: in.Deployment, Release: in.BackRelease},
		)
	} else if p, err = s.library.narrow(c, p, in.Release); err == nil {
		w, err = forwardRequest(in.Through, plan.Stop, false)
	}
	return p, w, err
}

// previewFleet says which targets of a fleet have the same plan, and what the most common one is.
func (s *deploying) previewFleet(
	c call, p targetContext, w deploymentRequest, in *previewIn,
) (*api.Preview, error) {
	places, err := s.targets.inUse(c, p)
	if err != nil {
		return nil, err
	}
	if in.Standalone {
		return nil, manyTargets(p.environment)
	}
	seen, err := s.gates.surveyAll(c, places, w, c.asker(in.Lane, in.Environment))
	if err != nil {
		return nil, err
	}
	plans := plansOf(seen)
	shown := max(0, slices.IndexFunc(seen, func(one surveyed) bool { return one.away == "" }))
	if plans[0].Steps > 0 {
		name := lane.PlaceName(p.environment.Name, plans[0].Targets[0])
		shown = slices.IndexFunc(seen, func(one surveyed) bool { return one.place.environment.Name == name })
	}
	answer, err := s.previewOne(c, seen[shown].place, w, in)
	if err != nil {
		return nil, err
	}
	all := answerOf(p, seen)
	answer.Gate, answer.Fleet, answer.Held = all.gate.Checks, plans, all.held
	return answer, nil
}

// plansOf groups targets by their plans: those that have something to do first, and of these the most
// common plan. Those that are away are one group.
func plansOf(seen []surveyed) []api.FleetPlan {
	var list []api.FleetPlan
	at := map[string]int{}
	var away, why []string
	for _, one := range seen {
		key := one.digest + " " + one.refused
		if one.away != "" {
			key, away, why = "away", append(away, one.place.environment.Name), append(why, one.away)
		}
		i, known := at[key]
		if !known {
			i = len(list)
			at[key] = i
			list = append(list, api.FleetPlan{Steps: len(one.plan.Actions), Plan: one.digest, Message: one.refused})
		}
		list[i].Targets = append(list[i].Targets, lane.TargetOf(one.place.environment.Name))
	}
	if len(away) > 0 {
		list[at["away"]].Message = gate.Example(away, why)
	}
	slices.SortStableFunc(list, func(a, b api.FleetPlan) int {
		return cmp.Or(cmp.Compare(min(b.Steps, 1), min(a.Steps, 1)), len(b.Targets)-len(a.Targets))
	})
	return list
}

// standalone writes a plan as one file for psql. A history that is not right, or
// a step in doubt, is no ground for one.
func (s *deploying) standalone(
	c call, p targetContext, facts gate.Facts, planned plan.Plan, result gate.Result,
) (string, error) {
	scripts, err := p.scripts()
	if err != nil {
		return "", err
	}
	f := engine.File{
		Lane:        p.lane.Name,
		Environment: p.environment.Name,
		Release:     facts.Release,
		MadeBy:      c.actor,
		MadeAt:      s.Now(),
		Plan:        planned,
		Defaults:    defaults(p),
		Head:        facts.View.State.Head,
		Key:         s.Records.LedgerKey,
		Belongs:     claim(p, facts.View.State),
		Texts:       func(checksum step.Checksum) ([]byte, error) { return s.Records.Text(c, checksum) },
	}
	for _, hold := range result.Holds() {
		switch hold.ID {
		case gate.KnownDatabase, gate.LedgerIntact, gate.Checksums, gate.Catalogue, gate.NothingInDoubt, gate.Quiet:
			return "", held(p, result, nil)
		}
		f.Holds = append(f.Holds, string(hold.ID)+": "+hold.Evidence)
	}
	if facts.Entries == 0 && facts.LedgerRole == "" {
		f.MakeLedger = true
	}
	if len(planned.Actions) == 0 {
		return "", refused(
			p.do(remedy.LookAtStatus, "see where it stands"),
			"there is nothing to do on %s, so there is no file to write",
			p.environment.Name,
		)
	}
	text, err := scripts.Script(f)
	var unwritten *engine.UnwritableError
	if errors.As(err, &unwritten) {
		return "", refused(nil, "%s", unwritten.Reason)
	}
	return string(text), err
}

func (s *deploying) previewAction(
	ctx context.Context, dialect engine.Dialect, texts func(context.Context, step.Checksum) ([]byte, error),
	a plan.Action, limit int,
) (api.PreviewAction, error) {
	file := a.Step.Forward
	if a.Direction == ledger.Back {
		file = *a.Step.Back
	}
	shown := api.PreviewAction{
		StepRef:      api.StepRef{Number: a.Step.Number, Slug: a.Step.Slug, Direction: a.Direction},
		Irreversible: a.Step.Back == nil, Losses: []review.Loss{}, LostBefore: []review.Loss{}, Findings: []review.Finding{},
		File: file.Name, Mode: a.Step.Options.Mode, Phase: a.Step.Options.Phase, Resume: a.Resume,
	}
	text, err := texts(ctx, file.Checksum)
	if err != nil {
		return shown, err
	}
	shown.Size = int64(len(text))
	shown.SQL, shown.Shortened = shorten(text, limit)
	shown.Losses = append(shown.Losses, dialect.Losses(text)...)
	if a.Direction == ledger.Back {
		if statements, err := dialect.Cut(text); err == nil {
			shown.Mode = deploy.RollbackMode(shown.Mode, statements)
		}
		forward, err := s.Records.Text(ctx, a.Step.Forward.Checksum)
		if err != nil {
			return shown, err
		}
		shown.LostBefore = append(shown.LostBefore, dialect.Losses(forward)...)
	}
	if a.Direction == ledger.Forward && a.Step.Check != nil {
		check, err := texts(ctx, a.Step.Check.Checksum)
		if err != nil {
			return shown, err
		}
		shown.Check, _ = shorten(check, limit)
	}
	return shown, nil
}

func shorten(text []byte, limit int) (string, bool) {
	if limit <= 0 || len(text) <= limit {
		return string(text), false
	}
	for limit > 0 && !utf8.RuneStart(text[limit]) {
		limit--
	}
	return string(text[:limit]), true
}

type gateIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Release     string `query:"release" description:"The release that is to be promoted; loose steps if absent."`
}

// overlapsOf are those of a plan that goes forward.
func overlapsOf(planned plan.Plan) []plan.Overlap {
	var phased []plan.Phased
	for _, a := range planned.Actions {
		if a.Direction == ledger.Forward {
			phased = append(phased, plan.Phased{Number: a.Step.Number, Phase: a.Step.Options.Phase})
		}
	}
	return plan.Overlaps(phased)
}
