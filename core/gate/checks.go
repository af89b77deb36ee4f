package gate

import (
	"cmp"
	"fmt"
	"slices"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/internal/plural"
)

// foreign is knownDatabase where objects without a history do not matter.
func (f Facts) foreign() Check {
	f.Existing = engine.Existing{}
	return f.knownDatabase()
}

// Foreign reports whether the ledger says that the target belongs to another
// environment.
func (f Facts) Foreign() bool {
	owner := f.View.State.Belongs
	return owner != (ledger.Owner{}) && owner != ledger.Owner{Lane: f.Lane, Environment: f.View.Environment}
}

func (f Facts) knownDatabase() Check {
	if f.Foreign() {
		return hold(
			KnownDatabase,
			fmt.Sprintf(
				"this database's ledger says that it belongs to %s, and not to %s/%s",
				f.View.State.Belongs, f.Lane, f.View.Environment,
			),
			remedy.ByHand("correct what the target's reference stands for"),
			f.place().
				Do(remedy.Adopt).
				For("or, if this is a copy that belongs here now, see what it holds and adopt it"),
		)
	}
	if !f.Existing.Any() && f.View.State.Untouched() && f.View.State.Baseline == "" {
		return pass(KnownDatabase, "the target is empty: it has neither objects nor a history")
	}
	if f.Chain != nil && f.Entries == 0 { // to baseline it would be refused
		return pass(KnownDatabase, "the target is known: it had a ledger, and its loss is another check's matter")
	}
	if !f.Existing.Any() || f.Chain != nil {
		return pass(
			KnownDatabase,
			"the target is known: its ledger holds %s",
			plural.Count(f.Entries, "entry", "entries"),
		)
	}
	return hold(
		KnownDatabase,
		"this is an existing database: "+f.NoHistory(),
		f.FixNoHistory()...,
	)
}

// NoHistory says what is there of an existing database that has no ledger.
func (f Facts) NoHistory() string {
	return fmt.Sprintf("it has %s and no history, so Vorrang cannot know what ran here", f.Existing)
}

// FixNoHistory says what to do about it.
func (f Facts) FixNoHistory() []remedy.Remedy {
	return []remedy.Remedy{
		f.place().Do(remedy.Baseline).For("find the last step that it already contains, and record it"),
	}
}

func (f Facts) ledgerIntact() Check {
	altered := f.AlteredLedger()
	if f.Altered != "" && f.Chain == nil && f.Strange == "" {
		return hold(LedgerIntact, altered, f.FixLedger()...)
	}
	if f.Chain == nil && f.Entries == 0 {
		return pass(LedgerIntact, "there is no ledger yet")
	}
	if f.Chain == nil && f.Strange == "" {
		return pass(LedgerIntact, "the chain of the ledger's %s holds", plural.Count(f.Entries, "entry", "entries"))
	}
	evidence := f.Strange
	if f.Chain != nil {
		evidence = f.Chain.Error()
	}
	if f.Altered != "" {
		evidence += "; " + altered
	}
	return hold(
		LedgerIntact, evidence,
		f.place().
			Do(remedy.Adopt).
			For("somebody wrote to the ledger, restored the database from a backup, or made it again; find out who and why, "+
				"see what is there, and adopt it if it is meant"),
	)
}

// AlteredLedger says what of the ledger's table is not as it was made.
func (f Facts) AlteredLedger() string {
	if f.LedgerRole != "" {
		return fmt.Sprintf("the ledger's own table is not as its owner %s is to make it: %s", f.LedgerRole, f.Altered)
	}
	return "the ledger's own table is not as Vorrang made it: " + f.Altered
}

// FixLedger says what to do about it.
func (f Facts) FixLedger() []remedy.Remedy {
	if f.LedgerRole != "" {
		return []remedy.Remedy{
			f.place().
				Do(remedy.SetUpLedger).
				For("find out who changed it and why, if somebody did; then let an administrator of the database run what " +
					"this prints"),
		}
	}
	return []remedy.Remedy{
		f.place().Do(remedy.LookAtLedger).For("find out who changed it and why, and what was written since"),
		remedy.ByHand("then, as its owner, put it back as docs/ledger.md describes it"),
	}
}

func (f Facts) checksums() Check {
	edited := f.View.With(plan.Edited)
	if len(edited) == 0 {
		return pass(Checksums, "no step was edited after it was applied here")
	}
	return hold(
		Checksums,
		fmt.Sprintf(
			"%s edited after being applied here: %s",
			plural.Count(len(edited), "step was", "steps were"),
			list(edited),
		),
		f.FixEdited(edited[0])...)
}

// FixEdited says what to do about a step that was edited after it was applied.
func (f Facts) FixEdited(s plan.Standing) []remedy.Remedy {
	number, amend := s.Step.Number, f.place().Step(remedy.Amend, s.Step.Number)
	if sealed := f.Bound[number].Release; sealed != "" {
		return []remedy.Remedy{
			amend.For("its new text is sealed in release %s and stays; if it is right here as it stands", sealed),
			f.RollbackBelow(number).For("if not, roll back to below it, and promote it again"),
		}
	}
	return []remedy.Remedy{
		remedy.ByHand(
			"put the applied text back (step %s had the checksum %s) and submit, and write what should change as a new step",
			number, s.State.Checksum.Short(),
		),
		amend.For("or, if the new text is right here as it stands")}
}

// RollbackBelow rolls a step back, and what came after it.
func (f Facts) RollbackBelow(number step.Number) remedy.Remedy {
	return f.place().RollbackTo(f.below(number))
}

func (f Facts) catalogue() Check {
	absent := f.View.With(plan.Absent)
	if len(absent) == 0 {
		return pass(Catalogue, "every step that was applied here is in the catalogue")
	}
	return hold(
		Catalogue,
		fmt.Sprintf(
			"%s applied here and %s no longer in the catalogue: %s",
			plural.Count(len(absent), "step was", "steps were"),
			plural.Word(len(absent), "is", "are"),
			list(absent),
		),
		remedy.ByHand("put the files back into the step folder and submit"),
		f.RollbackBelow(absent[0].Step.Number).For("or, to undo the step, roll back to below it"),
	)
}

// below is the last step before a number, or 0.
func (f Facts) below(number step.Number) step.Number {
	before := step.Number("0")
	for _, s := range f.View.Steps {
		if step.Compare(s.Step.Number, number) < 0 && s.State.Status.Present() {
			before = s.Step.Number
		}
	}
	return before
}

func (f Facts) order() Check {
	late := f.View.With(plan.Late)
	if len(late) == 0 {
		if f.View.State.At() == "" {
			return pass(Order, "no step is in the target yet")
		}
		return pass(Order, "every pending step comes after step %s", f.View.State.At())
	}
	above := f.View.State.At()
	return hold(
		Order,
		fmt.Sprintf(
			"%s late: a higher number, %s, is already in this target; late: %s",
			plural.Count(len(late), "pending step is", "pending steps are"),
			above, list(late),
		),
		f.FixLate(late[0])...).about(above, texts(late))
}

// FixLate says what to do about a pending step below what is in the target.
func (f Facts) FixLate(s plan.Standing) []remedy.Remedy {
	number, bound := s.Step.Number, f.Bound[s.Step.Number]
	back := f.RollbackBelow(number).For("or roll back to below it and promote in order")
	byHand := f.place().Step(remedy.Attest, number).For("if it was run here by hand")
	if slices.Contains(f.There, number) { // another try stumbles again
		return []remedy.Remedy{
			remedy.ByHand("step %s failed here because something of it is there already", number),
			byHand, back,
		}
	}
	if bound.Release == "" && bound.Went == "" {
		return []remedy.Remedy{remedy.ByHand("give it a number above %s and submit", f.View.State.At()), back,
			f.place().
				Do(remedy.WaiveOrder).
				For("if its place does not matter, as with a hotfix, a keeper can say so"),
			byHand}
	}
	why, waive, promote := "went to "+bound.Went, f.place().
		Release(remedy.WaiveOrder, bound.Release),
		f.place().
			Release(remedy.Promote, bound.Release)
	if bound.Release != "" {
		why = "is sealed in release " + bound.Release
	}
	waived := waive.And(promote)
	if bound.Release == "" && f.Asks.Release {
		waive.Arguments.NewRelease, promote.Arguments.NewRelease = true, true
		waived = f.place().Do(remedy.Cut).And(waive.And(promote))
	}
	return []remedy.Remedy{
		waived.For(
			"step %s %s and keeps its number; if its place does not matter, as with a hotfix, a keeper can say so, and it "+
				"is promoted",
			number, why,
		),
		byHand, back,
	}
}

func (f Facts) quiet() Check {
	if f.Running == nil {
		return pass(Quiet, "nobody else is deploying here")
	}
	return hold(Quiet,
		fmt.Sprintf("%s, started by %s, has been running here since %s",
			"deployment "+f.Running.ID, cmp.Or(f.Running.Actor, "somebody"), utc(f.Running.Since)),
		remedy.ByHand("wait for it to end"))
}
