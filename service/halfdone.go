package service

import (
	"context"
	"fmt"
	"strings"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/sqltext"
	"vorrang/internal/plural"
)

// halfDone says of every step that stopped half-way whether it can go on where it
// stopped: with the text that it has now, in a new session, on a target that is
// as its earlier statements left it.
func (s *targets) halfDone(
	ctx context.Context, p targetContext, session engine.Session, view plan.View,
) ([]gate.Half, error) {
	var list []gate.Half
	for _, standing := range view.HalfDone() {
		half := gate.Half{Step: standing.Step.Number}
		var err error
		half.Stuck, err = s.stuck(ctx, p, session, standing)
		if err != nil && session.Closed() {
			return nil, err
		}
		if err != nil {
			half.Stuck = "whether it can go on there could not be seen: " + err.Error()
		}
		if version, known := s.versions(ctx, p)(standing.Step.Number, standing.State.Checksum); known &&
			version.Back != nil {
			half.Undo = s.undoable(
				ctx, p, session,
				plan.Action{Direction: ledger.Back, Step: version, Half: standing.State.HalfDone()},
			) == nil
		}
		list = append(list, half)
	}
	return list, nil
}

// stuck says why a half-done step cannot go on where it stopped; an empty text
// means that it can.
func (s *targets) stuck(
	ctx context.Context, p targetContext, session engine.Session, standing plan.Standing,
) (string, error) {
	st := standing.State
	took := st.Progress().Statement - 1
	switch {
	case standing.Has(plan.Absent):
		return "its files are gone", nil
	case standing.Has(plan.NotHere):
		return "it is no longer meant for this environment", nil
	case took == 0: // it begins again at its first statement, as somebody decided
		return "", nil
	case st.Undermined != "":
		return fmt.Sprintf("step %s was reversed since", st.Undermined), nil
	}
	statements, err := s.statements(ctx, p, standing.Step.Forward.Checksum)
	if err != nil {
		return "", err
	}
	if !begins(statements, st.Progress()) {
		return fmt.Sprintf(
			"the statements before number %d took effect, and were changed since",
			st.Progress().Statement,
		), nil
	}
	if _, why := deploy.Unresumable(p.dialect().SessionOf(statements[:took]), statements[took:]); why != "" {
		return why, nil
	}
	looked, _, err := session.Peek(ctx, defaults(p), p.dialect().Objects(statements, 1, took).Objects, nil)
	if err != nil {
		return "", err
	}
	if gone := evidence.Missing(looked); len(gone) > 0 {
		return "what its earlier statements did is no longer so: " + strings.Join(gone[:min(len(gone), 3)], ", "), nil
	}
	return "", nil
}

// begins reports whether statements begin with those of a step that took effect.
func begins(statements []sqltext.Statement, progress ledger.Detail) bool {
	took := progress.Statement - 1
	if took > len(statements) {
		return false
	}
	var sum sqltext.Sum
	for _, s := range statements[:took] {
		sum.Add(s)
	}
	return sum.Total() == progress.Done
}

// undoable refuses a way back of a half-done step if the catalogs do not tell
// which of its statements are to run.
func (s *targets) undoable(ctx context.Context, p targetContext, session engine.Session, action plan.Action) error {
	back, err := s.statements(ctx, p, action.Step.Back.Checksum)
	if err != nil {
		return err
	}
	seen := make([][]evidence.Observation, len(back))
	for i, objects := range evidence.Targets(p.dialect().Objects, back) {
		if seen[i], _, err = session.Peek(ctx, defaults(p), objects, nil); err != nil {
			return err
		}
	}
	if _, err := evidence.Undo(back, p.dialect().SessionOf(back), seen); err != nil {
		return refused(
			todo{
				p.at().
					Settle(action.Step.Number, ledger.SettledUndone).
					For("undo by hand what it did, then record that"),
			},
			"of step %s (%s) only %s took effect, and %s",
			action.Step.Number, action.Step.Slug,
			plural.Of(action.Half, "statement"),
			err,
		)
	}
	return nil
}

// allUndoable is undoable for every half-done step of a plan.
func (s *targets) allUndoable(ctx context.Context, p targetContext, session engine.Session, planned plan.Plan) error {
	for _, action := range planned.Actions {
		if action.Direction != ledger.Back || action.Half == 0 {
			continue
		}
		if err := s.undoable(ctx, p, session, action); err != nil {
			return err
		}
	}
	return nil
}
