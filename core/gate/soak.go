package gate

import (
	"fmt"
	"time"

	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/remedy"
	"vorrang/core/step"
)

// soak asks how long what is to be applied has been in the environment before, and, of
// what is to be contracted, how long it has been expanded in the environment itself.
func (f Facts) soak() Check {
	if f.Asks.Soak == 0 {
		return notAsked(Soak)
	}
	before := f.everywhere(Facts.soakBefore)
	if early := f.soakHere(); early != nil && before.Verdict != Hold {
		return *early
	}
	return before
}

// soakHere holds a contract whose expand came too lately, or comes with it: the version
// of the application before it is still running then.
func (f Facts) soakHere() *Check {
	planned := f.planned()
	for _, contract := range planned {
		if contract.Step.Options.Phase != step.Contract {
			continue
		}
		at := f.expandOf(contract.Step.Number)
		if at < 0 {
			continue // there is none, which a review finds
		}
		expand := f.View.Steps[at]
		number, lasted := expand.Step.Number, f.Now.Sub(expand.State.At)
		var held Check
		switch {
		case !expand.State.Status.Present():
			last := number // before the contract
			for _, s := range planned {
				if step.Compare(s.Step.Number, contract.Step.Number) < 0 && step.Compare(s.Step.Number, last) > 0 {
					last = s.Step.Number
				}
			}
			held = hold(
				Soak,
				fmt.Sprintf("step %s contracts what step %s expands, and step %[2]s is not in %s yet: %s between them are asked",
					contract.Step.Number, number, f.View.Environment, lane.Span(f.Asks.Soak)),
				f.place().Release(remedy.Promote, f.Release).
					For("promote no further than step %s first, and wait %s", last, lane.Span(f.Asks.Soak)),
			)
		case expand.State.At.IsZero() || lasted >= f.Asks.Soak: // a baseline's steps were there before
			continue
		default:
			held = hold(
				Soak,
				fmt.Sprintf("step %s contracts what step %s expanded in %s since %s, for %s; %s are asked",
					contract.Step.Number, number, f.View.Environment, utc(expand.State.At), lane.Span(lasted), lane.Span(f.Asks.Soak)),
				remedy.ByHand("wait until %s", utc(expand.State.At.Add(f.Asks.Soak))),
			)
		}
		held = held.about(texts(planned), number, expand.State.At, f.Asks.Soak)
		return &held
	}
	return nil
}

// expandOf is where the expand before a contract stands, which is the last one before
// it; -1 where there is none.
func (f Facts) expandOf(contract step.Number) int {
	at := -1
	for i, s := range f.View.Steps {
		if s.Step.Options.Phase == step.Expand && step.Compare(s.Step.Number, contract) < 0 {
			at = i
		}
	}
	return at
}

// soakBefore asks how long what is to be applied has been in the environment before.
// A failure there starts the time again.
func (f Facts) soakBefore() Check {
	switch {
	case f.Previous == nil:
		return pass(Soak, "this is the first environment of the lane")
	case f.Previous.Unreached != "":
		return f.unreached(Soak)
	}
	planned := map[step.Number]bool{}
	for _, s := range f.planned() {
		planned[s.Step.Number] = true
	}
	var since time.Time
	what := ""
	for _, e := range f.Previous.Entries {
		if planned[e.Step] &&
			(e.Action == ledger.Applied || e.Action == ledger.Attested || e.Action == ledger.Settled) {
			since, what = e.At, fmt.Sprintf("step %s is applied", e.Step)
		}
		if e.Action == ledger.Failed || e.Action == ledger.RolledBack {
			since, what = e.At, fmt.Sprintf(
				"step %s %s", e.Step,
				map[ledger.Action]string{ledger.Failed: "failed", ledger.RolledBack: "was rolled back"}[e.Action],
			)
		}
	}
	if len(planned) == 0 {
		return pass(Soak, "nothing is to be applied")
	}
	lasted := f.Now.Sub(since)
	if since.IsZero() || len(f.missing()) > 0 {
		return hold(
			Soak,
			fmt.Sprintf(
				"not everything is applied in %s yet, so the %s have not begun",
				f.Previous.Name, lane.Span(f.Asks.Soak),
			),
			f.before().
				Release(remedy.Promote, f.Release).
				For("promote there first, and wait"),
		).about(texts(f.planned()), since)
	}
	if lasted >= f.Asks.Soak {
		return pass(
			Soak,
			"in %s nothing changed and nothing failed for %s, and %s are asked",
			f.Previous.Name, lane.Span(lasted), lane.Span(f.Asks.Soak),
		)
	}
	return hold(
		Soak,
		fmt.Sprintf(
			"in %s %s since %s, for %s; %s are asked",
			f.Previous.Name, what, utc(since), lane.Span(lasted), lane.Span(f.Asks.Soak),
		),
		remedy.ByHand("wait until %s", utc(since.Add(f.Asks.Soak))),
	).about(texts(f.planned()), since, f.Asks.Soak)
}
