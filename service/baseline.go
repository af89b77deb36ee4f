package service

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/plural"
)

// checkBaseline applies the lane's steps to a scratch database and compares its
// schema with the target's, after every step: all that the model of a schema
// describes, but for owners and grants, which differ by environment. It refuses a
// baseline at a number where they differ, and names the one that fits best.
func (s *repairs) checkBaseline(
	ctx context.Context, p targetContext, session engine.Session, at step.Number,
) (string, error) {
	w, err := workshopOf(p, by("or record the baseline without a check"))
	if err != nil {
		return "", err
	}
	there, err := session.Snapshot(ctx, p.environment.Schemas)
	if err != nil {
		return "", err
	}
	trial, err := s.builder.fit(ctx, p, w, unowned(there), at)
	if err != nil {
		return "", err
	}
	if len(trial.differences) == 0 {
		return fmt.Sprintf(
			"; checked: the schema is what these steps make, %s, but for owners and grants",
			plural.Of(len(there.Objects), "object"),
		), nil
	}
	check := p.at().Step(remedy.CheckBaseline, trial.best)
	next := p.at().
		Step(remedy.Baseline, at).
		For("no other number fits better than %s; if the differences are meant", at)
	switch {
	case trial.best == at:
	case trial.least == 0:
		next = check.For("it looks exactly as after step %s", trial.best)
	default:
		next = check.For("step %s fits best, with %s", trial.best, plural.Of(trial.least, "difference"))
	}
	return "", refuseDifferences(todo{next}, trial.differences, "%s does not look as it does after step %s: %s",
		p.environment.Name, at, plural.Of(len(trial.differences), "difference"))
}

// trial is what a baseline's check found.
type trial struct {
	differences []string    // at the number that was asked for
	best        step.Number // where the fewest differ
	least       int
}

// unowned is a schema without what differs by environment.
func unowned(s schema.Schema) schema.Schema { return s.Without(schema.OwnedByRole, schema.Grants) }

// fit applies all steps, as far as they go, and compares after each.
func (s *builder) fit(
	ctx context.Context, p targetContext, w workshop, there schema.Schema, at step.Number,
) (trial, error) {
	scratch, err := s.scratch(ctx, p, w)
	if err != nil {
		return trial{}, err
	}
	defer scratch.Close()
	made, err := scratch.Snapshot(ctx, p.environment.Schemas)
	if err != nil {
		return trial{}, err
	}
	found := trial{best: "0", least: len(schema.Effect(unowned(made), there))}
	if at == "0" {
		found.differences = differing(schema.Compare(unowned(made), there))
	}
	head := ledger.NewHead()
	next := 0
	for _, known := range p.catalogue {
		if next < len(scratch.everything.Actions) && scratch.everything.Actions[next].Step.Number == known.Number {
			result := scratch.runner.Run(
				ctx, head,
				plan.Plan{Direction: ledger.Forward, Actions: scratch.everything.Actions[next : next+1]},
			)
			head = result.Head
			next++
			if result.Outcome != deploy.Done {
				if step.Compare(known.Number, at) > 0 {
					break
				}
				return trial{}, refused(
					by("fix the step, or record the baseline without a check"),
					"step %s (%s) cannot be applied to an empty database, so the baseline cannot be checked: %s",
					known.Number, known.Slug,
					cmp.Or(result.Failure, &deploy.Failure{Message: "it was interrupted"}).Message,
				)
			}
			if made, err = scratch.Snapshot(ctx, p.environment.Schemas); err != nil {
				return trial{}, err
			}
		}
		if known.Number == at {
			found.differences = differing(schema.Compare(unowned(made), there))
		}
		if n := len(schema.Effect(unowned(made), there)); n < found.least ||
			known.Number == at && n == found.least { // every column counts
			found.best, found.least = known.Number, n
		}
	}
	return found, nil
}

// differing says what the steps make and the target has otherwise, a line for
// each object.
func differing(list []schema.Difference) []string {
	lines := []string{}
	for _, d := range list {
		name := fmt.Sprintf("%s %s", d.Kind, d.Name)
		switch d.What {
		case schema.Added:
			lines = append(lines, name+" is there, and these steps do not make it")
		case schema.Removed:
			lines = append(lines, name+" is made by these steps, and is not there")
		case schema.Changed:
			var parts []string
			for _, change := range d.Props {
				made, there := change.Words()
				parts = append(parts, fmt.Sprintf("%s is %s, and these steps make it %s", change.Name, there, made))
			}
			lines = append(lines, name+": "+strings.Join(parts, "; "))
		}
	}
	return lines
}
