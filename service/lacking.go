package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"vorrang/core/evidence"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/internal/plural"
)

// lack is a step that was applied, and what it made that is gone.
type lack struct {
	number step.Number
	slug   string
	gone   []string // "table berth is not there"
}

// lacking says what of the steps that the ledger calls present is gone. It looks at
// every object of theirs, so ask where a step failed because something was not there.
func (s *views) lacking(ctx context.Context, p targetContext, view plan.View) ([]lack, error) {
	var present []plan.Standing
	var scripts [][]sqltext.Statement
	version := s.targets.versions(ctx, p)
	for _, standing := range view.Steps {
		if !standing.State.Status.Present() {
			continue
		}
		ran, known := version(standing.Step.Number, standing.State.Checksum)
		if !known {
			ran = standing.Step
		}
		statements, err := s.targets.statements(ctx, p, ran.Forward.Checksum)
		if err != nil {
			return nil, err
		}
		present, scripts = append(present, standing), append(scripts, statements)
	}
	left := p.dialect().Left(scripts)
	ctx, leave, err := s.looking.enter(ctx, p)
	if err != nil {
		return nil, err
	}
	defer leave()
	session, err := s.targets.connect(ctx, p, "vorrangd status")
	if err != nil {
		return nil, err
	}
	defer session.Close()
	looked, _, err := session.Peek(ctx, defaults(p), slices.Concat(left...), nil)
	if err != nil {
		return nil, err
	}
	var lacks []lack
	for i, objects := range left {
		if gone := evidence.Missing(looked[:len(objects)]); len(gone) > 0 {
			lacks = append(lacks, lack{present[i].Step.Number, present[i].Step.Slug, gone})
		}
		looked = looked[len(objects):]
	}
	return lacks, nil
}

// fixLacks says how what is gone comes back; nothing where nothing is gone, or
// nobody could see.
func (s *views) fixLacks(ctx context.Context, p targetContext, view plan.View, again remedy.Remedy) []remedy.Remedy {
	lacks, err := s.lacking(ctx, p, view)
	if err != nil {
		s.Log.Warn("what a failed step misses could not be seen", "lane", p.lane.Name,
			"environment", p.environment.Name, "error", err)
	}
	if len(lacks) == 0 {
		return nil
	}
	first, more := lacks[0], ""
	if n := len(lacks) - 1; n > 0 {
		more = fmt.Sprintf(", and of %s more", plural.Of(n, "step"))
	}
	gone := fmt.Sprintf("what step %s (%s) made is gone%s: %s",
		first.number, first.slug, more, strings.Join(first.gone[:min(len(first.gone), 3)], ", "))
	if p.environment.Disposable && !p.environment.Asks().Release {
		return []remedy.Remedy{
			remedy.ByHand("%s", gone),
			p.at().Do(remedy.Rebuild).For("as %s is disposable, build it again", p.environment.Name),
		}
	}
	return []remedy.Remedy{
		remedy.ByHand("%s", gone),
		again.For("if the step that failed needs it, make it again by hand as that step did, then promote again"),
	}
}
