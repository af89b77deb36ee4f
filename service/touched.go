package service

import (
	"context"
	"slices"

	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/remedy"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/service/api"
)

// readText reads a normal text by its checksum.
type readText func(context.Context, step.Checksum) ([]byte, error)

// touched says where edited and gone steps are applied, in doubt or half run, and what the ways out are. The new texts
// of the edited ones are read by newText.
func (s *catalogue) touched(
	c call, laneName string, d records.Difference, newText readText, answer *api.Submitted,
) error {
	if len(d.Edited)+len(d.Gone) == 0 {
		return nil
	}
	l, err := s.targets.lane(c, laneName)
	if err != nil {
		return err
	}
	changed := slices.Concat(answer.Edited, answer.Gone)
	places := l.Places()
	states, seen := make([][]ledger.StepState, len(places)), make([]bool, len(places))
	each(places, mostLooks, func(i int, e lane.Environment) {
		if hidden(c, l.Name, e.Name) {
			return
		}
		facts, err := s.gates.lookOnce(c, s.targets.at(l, e, d.Before), promotionRequest{passing: true})
		if seen[i] = err == nil; seen[i] {
			for _, ref := range changed {
				states[i] = append(states[i], facts.View.State.Of(ref.Number))
			}
		}
	})
	for _, e := range unreadFleets(l) {
		answer.Unlooked = append(answer.Unlooked, e.Name)
	}
	edits := edits{library: s.library, newText: newText, now: map[step.Number]step.Checksum{},
		changes: map[edit]sqltext.Change{}, statements: map[step.Checksum][]sqltext.Statement{}}
	for _, change := range d.Edited {
		edits.now[change.Step.Number] = change.Step.Forward.Checksum
	}
	for i, e := range places {
		if !seen[i] && !hidden(c, l.Name, e.Name) {
			answer.Unlooked = append(answer.Unlooked, e.Name)
		}
		for j, state := range states[i] {
			t, is, err := edits.touch(c, s.targets.at(l, e, d.Before), changed[j], state)
			if err != nil {
				return err
			}
			if is {
				answer.Applied = append(answer.Applied, t)
			}
		}
	}
	return nil
}

// edits are the edited steps of a folder. Each text is read and compared once, on however many targets it is applied.
type edits struct {
	library    *library
	newText    readText
	now        map[step.Number]step.Checksum // what the edited ones are now; the other changed ones are gone
	changes    map[edit]sqltext.Change
	statements map[step.Checksum][]sqltext.Statement
}

type edit struct{ applied, now step.Checksum }

// touch says what a changed step is on a target, if that has anything of it.
func (s *edits) touch(
	ctx context.Context, p targetContext, ref api.StepRef, st ledger.StepState,
) (t api.Touched, is bool, err error) {
	text, edited := s.now[ref.Number]
	if !st.Status.Present() && !unfinished(st) || edited && (st.Checksum == text || st.Checksum == "") {
		return t, false, nil
	}
	if edited && st.HalfDone() > 0 {
		kept, err := s.keepBeginning(ctx, p, st, text)
		if err != nil || kept { // only what has not run yet was edited
			return t, false, err
		}
	}
	t = api.Touched{StepRef: ref, Gone: !edited, Environment: p.environment.Name, State: st.Status}
	switch {
	case !edited:
		t.Remedies = []remedy.Remedy{
			remedy.ByHand("put its files back and submit"),
			p.at().Do(remedy.LookAtStatus).For("how to undo it there instead"),
		}
		return t, true, nil
	case st.Status.Present():
		t.Remedies = []remedy.Remedy{
			remedy.ByHand("put the applied text back and write the change as a new step"),
			p.at().Step(remedy.Amend, ref.Number).For("or, if the new text is right there as it stands"),
		}
	default:
		t.Remedies = []remedy.Remedy{
			remedy.ByHand(
				"the statements before number %d took effect there: put them back as they were and submit",
				max(st.Progress().Statement, 1),
			),
			p.at().RollbackLast().For("or undo the step there first"),
		}
	}
	t.Change, err = s.change(ctx, p, edit{st.Checksum, text})
	return t, true, err
}

// change says what an edit amounts to.
func (s *edits) change(ctx context.Context, p targetContext, e edit) (sqltext.Change, error) {
	if change, known := s.changes[e]; known {
		return change, nil
	}
	change, err := s.library.change(ctx, p, e.applied, e.now, s.newText)
	if err == nil {
		s.changes[e] = change
	}
	return change, err
}

// keepBeginning reports whether the statements of a half-done step that took effect are the same in a new text.
func (s *edits) keepBeginning(
	ctx context.Context, p targetContext, st ledger.StepState, text step.Checksum,
) (bool, error) {
	if _, known := s.statements[text]; !known {
		now, err := s.newText(ctx, text)
		if err != nil {
			return false, err
		}
		if s.statements[text], err = p.dialect().Cut(now); err != nil {
			return false, err
		}
	}
	return begins(s.statements[text], st.Progress()), nil
}
