package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/sqltext"
)

// lacking says, where a step failed because something was not there, what of the
// steps that the ledger calls present is gone.
func (s *Service) lacking(ctx context.Context, p targetContext, session engine.Session, view plan.View) ([]gate.Lack, error) {
	if !slices.ContainsFunc(view.Steps, func(st plan.Standing) bool { return p.stopped(st, ledger.Forward, engine.Missing) }) {
		return nil, nil
	}
	var present []plan.Standing
	var scripts [][]sqltext.Statement
	version := s.versions(ctx, p)
	for _, standing := range view.Steps {
		if !standing.State.Status.Present() {
			continue
		}
		ran, known := version(standing.Step.Number, standing.State.Checksum)
		if !known {
			ran = standing.Step
		}
		statements, err := s.statements(ctx, p, ran.Forward.Checksum)
		if err != nil {
			return nil, err
		}
		present, scripts = append(present, standing), append(scripts, statements)
	}
	var lacks []gate.Lack
	for i, objects := range p.dialect().Left(scripts) {
		if len(objects) == 0 {
			continue
		}
		looked, _, err := session.Peek(ctx, defaults(p), objects, nil)
		if err != nil {
			return nil, err
		}
		if gone := evidence.Missing(looked); len(gone) > 0 {
			lacks = append(lacks, gate.Lack{Step: present[i].Step.Number, Slug: present[i].Step.Slug, Gone: gone})
		}
	}
	return lacks, nil
}

// fixLacks says how what is gone comes back.
func fixLacks(facts gate.Facts, p targetContext, release string) string {
	lack := facts.Lacks[0]
	more := ""
	if n := len(facts.Lacks) - 1; n > 0 {
		more = fmt.Sprintf(", and of %s more", count(n, "step", "steps"))
	}
	gone := fmt.Sprintf("what step %s (%s) made is gone%s: %s", lack.Step, lack.Slug, more, strings.Join(lack.Gone[:min(len(lack.Gone), 3)], ", "))
	if p.environment.Disposable && !facts.Asks.Release {
		return fmt.Sprintf("%s; as %s is disposable, build it anew: vorrang rebuild -lane %s -env %s -confirm %[2]s", gone, p.environment.Name, p.lane.Name, p.environment.Name)
	}
	return fmt.Sprintf("%s; if the step that failed needs it, make it again by hand as that step did, then promote again: vorrang promote -lane %s -to %s%s",
		gone, p.lane.Name, p.environment.Name, release)
}
