package gate

import (
	"fmt"
	"slices"

	"vorrang/core/evidence"
	"vorrang/core/ledger"
	"vorrang/core/remedy"
	"vorrang/core/step"
)

func (f Facts) nothingInDoubt() Check {
	if half := f.View.HalfBack(); len(half) > 0 {
		number := half[0].Step.Number
		return hold(
			NothingInDoubt,
			fmt.Sprintf(
				"the way back of step %s stopped at statement %d of %d",
				number, half[0].State.Progress().Statement, half[0].State.Progress().Of,
			),
			f.FixHalfBack(number)...)
	}
	if check := f.halfDone(); check.Verdict == Hold {
		return check
	}
	return f.nothingDoubtedBack()
}

// FixHalfBack says what to do about a way back that stopped half-way.
func (f Facts) FixHalfBack(number step.Number) []remedy.Remedy {
	undone, finish := f.place().Settle(number, ledger.SettledUndone), f.place().RollbackLast()
	if slices.Contains(f.Away, number) { // another try stumbles again
		return []remedy.Remedy{
			undone.For(
				"what it stumbled over is not there; if that is gone already, or the text is wrong, finish by hand what is " +
					"left, and record that",
			),
			finish.For("or put back what is gone, then finish it"),
		}
	}
	return []remedy.Remedy{
		finish.For("fix the cause, then finish it"),
		undone.For("if its text is wrong, finish it by hand and record that"),
	}
}

// halfDone holds if a step stopped half-way and cannot go on there.
func (f Facts) halfDone() Check {
	for _, s := range f.View.HalfDone() {
		number := s.Step.Number
		for _, half := range f.Half {
			if half.Step != number || half.Stuck == "" {
				continue
			}
			var ways []remedy.Remedy
			byHand := "undo it by hand, and record that"
			if half.Undo {
				ways = append(ways, f.place().RollbackLast().For("undo what it did"))
				byHand = "or " + byHand
			}
			ways = append(
				ways,
				f.place().Settle(number, ledger.SettledUndone).For("%s", byHand),
				f.place().Settle(number, ledger.SettledWhole).For("or finish it by hand, and record that"),
				f.place().Settle(number, ledger.SettledAgain).For("or let it begin again at its first statement"),
			)
			return hold(
				NothingInDoubt,
				fmt.Sprintf(
					"step %s (%s) stopped at statement %d of %d, and cannot go on there: %s",
					number, s.Step.Slug, max(s.State.Progress().Statement, 1), s.State.Progress().Of, half.Stuck,
				),
				ways...)
		}
	}
	return pass(NothingInDoubt, "no step is unfinished")
}

func (f Facts) nothingDoubtedBack() Check {
	settled := ""
	for _, d := range f.View.InDoubt() {
		known := f.Doubt(d.Step.Number)
		switch {
		case f.Running != nil && d.State.Deployment == f.Running.ID:
			continue // it is under way
		case known.Verdict != evidence.Unclear:
			settled = fmt.Sprintf(
				"step %s was in doubt, and is %s: %s; the next deployment records that",
				d.Step.Number, known.Verdict, known.Why,
			)
			continue
		}
		return hold(
			NothingInDoubt,
			fmt.Sprintf(
				"step %s is in doubt: its statement %d of %d began at %s, and nothing says how it ended%s",
				d.Step.Number, max(d.State.Progress().Statement, 1), max(d.State.Progress().Of, 1), utc(d.State.At),
				because(known.Why),
			),
			f.place().
				Step(remedy.LookAtEvidence, d.Step.Number).
				For("see what the target shows of it, and record what became of it"),
		)
	}
	if settled != "" {
		return pass(NothingInDoubt, "%s", settled)
	}
	return pass(NothingInDoubt, "no step is unfinished")
}

func because(why string) string {
	if why == "" {
		return ""
	}
	return "; " + why
}
