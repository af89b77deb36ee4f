package verify

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"vorrang/core/evidence"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/step"
)

// Kind is what a deviation is about.
type Kind string

const (
	Chain    Kind = "chain"     // the ledger's chain, or the entry that was last seen
	Checksum Kind = "checksum"  // an applied text is not the catalogue's
	Absent   Kind = "absent"    // applied, and not in the catalogue
	Order    Kind = "order"     // run after a higher number
	Late     Kind = "late"      // pending below an applied number
	InDoubt  Kind = "in-doubt"  // unfinished
	HalfDone Kind = "half-done" // stopped half-way forward
	History  Kind = "history"   // not as in the environment before
)

// Kinds are all kinds, in the order in which they are reported.
var Kinds = []Kind{Chain, Checksum, Absent, Order, Late, InDoubt, HalfDone, History}

// Deviation is one thing that is not as it should be.
type Deviation struct {
	Kind        Kind            `json:"kind"`
	Environment string          `json:"environment"`
	Step        step.Number     `json:"step,omitempty"`
	What        string          `json:"what"`
	Since       *time.Time      `json:"since,omitempty" description:"Absent where nobody can know."`
	Remedies    []remedy.Remedy `json:"remedies" nullable:"false" description:"What settles it; one of them will do."`
}

// Environment is what was seen of one environment.
type Environment struct {
	Name      string
	Facts     gate.Facts
	Entries   []ledger.Entry
	Unreached bool // nothing was seen of it, and nothing can be compared with it
}

// HasHistory reports whether there is a ledger, or was one.
func (e Environment) HasHistory() bool {
	f := e.Facts
	return len(e.Entries) > 0 || f.Chain != nil || f.Strange != "" || f.Altered != ""
}

// Result is what came out of a verification.
type Result struct {
	Deviations []Deviation
	Empty      []Empty
	Uncompared []Uncompared
}

// Empty is an environment without a history, in which there was nothing to verify.
type Empty struct {
	Environment string          `json:"environment"`
	Message     string          `json:"message"`
	Remedies    []remedy.Remedy `json:"remedies" nullable:"false" description:"Where there is something without a history: what settles that."`
}

// Uncompared is an environment whose history could not be held against that of the one before it.
type Uncompared struct {
	Environment string `json:"environment"`
	Before      string `json:"before" description:"The environment before it, which was not reached."`
}

// Lane checks environments in the order of promotion. Each is held against the
// one before it in the slice; the targets of a fleet against the first that was reached of the environment before.
func Lane(name string, environments []Environment) Result {
	r := Result{Deviations: []Deviation{}, Empty: []Empty{}, Uncompared: []Uncompared{}}
	var before, here struct { // the environment before, and the one that the loop is in
		name    string
		reached *Environment // its first target that was
	}
	for i, e := range environments {
		if of := lane.EnvironmentOf(e.Name); of != here.name {
			before, here = here, before
			here.name, here.reached = of, nil
		}
		if e.Unreached {
			continue
		}
		if here.reached == nil {
			here.reached = &environments[i]
		}
		v := verifier{lane: name, Environment: e}
		if !e.HasHistory() {
			r.Empty = append(r.Empty, v.nothing())
			continue
		}
		v.chain()
		v.steps()
		v.order()
		r.Deviations = append(r.Deviations, v.found...)
		switch {
		case before.name == "":
		case before.reached == nil:
			r.Uncompared = append(r.Uncompared, Uncompared{e.Name, before.name})
		default:
			r.Deviations = append(r.Deviations, Against(name, *before.reached, e)...)
		}
	}
	return r
}

// Against holds an environment's history against that of the one before it.
func Against(lane string, before, e Environment) []Deviation {
	v := verifier{lane: lane, Environment: e}
	v.history(before)
	return v.found
}

type verifier struct {
	lane string
	Environment
	found []Deviation
}

// place is where remedies are made for.
func (v *verifier) place() remedy.Place { return remedy.Place{Lane: v.lane, Environment: v.Name} }

func (v *verifier) report(
	kind Kind, number step.Number, since time.Time, remedies []remedy.Remedy, format string, args ...any,
) {
	d := Deviation{
		Kind:        kind,
		Environment: v.Name,
		Step:        number,
		What:        fmt.Sprintf(format, args...),
		Remedies:    remedies,
	}
	if !since.IsZero() {
		d.Since = &since
	}
	v.found = append(v.found, d)
}

// nothing says of an environment without a history what is there.
func (v *verifier) nothing() Empty {
	if !v.Facts.Existing.Any() {
		return Empty{v.Name, "it has no history yet", []remedy.Remedy{}}
	}
	return Empty{v.Name, v.Facts.NoHistory(), v.Facts.FixNoHistory()}
}

func (v *verifier) chain() {
	if v.Facts.Foreign() {
		v.report(
			Chain, "",
			time.Time{},
			[]remedy.Remedy{
				remedy.ByHand("correct the target's reference"),
				v.place().Do(remedy.Adopt).For("or, if it belongs here now"),
			},
			"the ledger says that the database belongs to %s",
			v.Facts.View.State.Belongs,
		)
	}
	if v.Facts.Strange != "" {
		v.report(
			Chain, "",
			time.Time{},
			one(
				v.place().
					Do(remedy.Adopt).
					For("find out who wrote to the ledger; see what is there, and adopt it if it is meant"),
			),
			"%s", v.Facts.Strange,
		)
	}
	if v.Facts.Altered != "" {
		v.report(Chain, "", time.Time{}, v.Facts.FixLedger(), "%s", v.Facts.AlteredLedger())
	}
	if v.Facts.Chain == nil {
		return
	}
	var since time.Time
	var broken *ledger.ChainError
	if errors.As(v.Facts.Chain, &broken) {
		for _, e := range v.Entries {
			if e.Seq == broken.Seq {
				since = e.At
			}
		}
	}
	v.report(
		Chain, "", since,
		one(
			v.place().
				Do(remedy.Adopt).
				For("find out who wrote to the ledger, or restored or made the database again, and why; see what is there, and "+
					"adopt it if it is meant"),
		),
		"%s", v.Facts.Chain,
	)
}

func (v *verifier) steps() {
	for _, s := range v.Facts.View.Steps {
		name, at := named(s.Step.Number, s.Step.Slug), s.State.At
		switch {
		case s.Has(plan.Edited):
			v.report(
				Checksum, s.Step.Number, at, v.Facts.FixEdited(s),
				"step %s was applied with the checksum %s, and the catalogue's text has %s",
				name, s.State.Checksum.Short(), s.Step.Forward.Checksum.Short(),
			)
		case s.Has(plan.Absent):
			v.report(
				Absent, s.Step.Number, at,
				[]remedy.Remedy{
					remedy.ByHand("put its files back into the step folder and submit"),
					v.Facts.RollbackBelow(s.Step.Number).For("or roll it back"),
				},
				"step %s was applied and is no longer in the catalogue",
				name,
			)
		case s.Has(plan.Late):
			v.report(Late, s.Step.Number, time.Time{}, v.Facts.FixLate(s),
				"step %s is pending, and step %s is already there", name, v.Facts.View.State.At())
		}
		if s.State.Doubtful() && (v.Facts.Running == nil || v.Facts.Running.ID != s.State.Deployment) {
			v.report(
				InDoubt, s.Step.Number, at, v.settle(s.Step.Number),
				"step %s began, and nothing says how it ended",
				name,
			)
		}
	}
	for _, s := range v.Facts.View.HalfBack() {
		v.report(InDoubt, s.Step.Number, s.State.At, v.Facts.FixHalfBack(s.Step.Number),
			"the way back of step %s stopped half-way", named(s.Step.Number, s.Step.Slug))
	}
	for _, s := range v.Facts.View.HalfDone() {
		v.report(
			HalfDone, s.Step.Number, s.State.At,
			[]remedy.Remedy{
				v.place().Do(remedy.Promote).For("promote again"),
				v.place().RollbackLast().For("or undo it"),
			},
			"step %s stopped half-way: %d of %d statements took effect",
			named(s.Step.Number, s.Step.Slug), s.State.HalfDone(), s.State.Progress().Of,
		)
	}
}

// settle is what settles a step in doubt.
func (v *verifier) settle(number step.Number) []remedy.Remedy {
	if d := v.Facts.Doubt(number); d.Verdict != evidence.Unclear {
		return one(remedy.ByHand("the next deployment records it as %s: %s", d.Verdict, d.Why))
	}
	return one(
		v.place().
			Step(remedy.LookAtEvidence, number).
			For("see what the target shows of it, and record what became of it"),
	)
}

func one(r remedy.Remedy) []remedy.Remedy { return []remedy.Remedy{r} }

// order finds steps that were run after a higher number.
func (v *verifier) order() {
	state := v.Facts.View.State
	var highest step.Number
	for _, number := range state.Order {
		if step.Compare(number, highest) < 0 {
			st := state.Steps[number]
			if !st.KeptOrder() {
				continue
			}
			v.report(
				Order, number, st.At,
				one(
					v.Facts.RollbackBelow(number).
						For("nothing can change what happened; if the order matters, roll both back and promote again"),
				),
				"step %s was run after step %s",
				named(number, st.Slug), highest,
			)
			continue
		}
		highest = number
	}
}

// history holds what was run here against the environment before.
func (v *verifier) history(before Environment) {
	here, there := v.Facts.View.State, before.Facts.View.State
	promote := one(remedy.Place{Lane: v.lane, Environment: before.Name}.Do(remedy.Promote).For("promote there"))
	var last ledger.StepState // of those that are there too, in the order of here
	for _, number := range here.Order {
		st := here.Steps[number]
		other := there.Of(number)
		standing, known := before.Facts.View.Find(number)
		switch {
		case known && standing.Has(plan.NotHere), other.Status == ledger.StatusCovered:
			continue
		case !other.Status.Present():
			v.report(
				History, number, st.At, promote,
				"step %s is applied here, and %s in %s",
				named(number, st.Slug), other.Status, before.Name,
			)
		case other.Checksum != st.Checksum:
			v.report(
				History, number, st.At,
				one(remedy.ByHand("compare both texts, and bring the environments together with a new step")),
				"step %s was applied here with the checksum %s, and in %s with %s",
				named(number, st.Slug), st.Checksum.Short(), before.Name, other.Checksum.Short(),
			)
		case !other.KeptOrder() || !st.KeptOrder():
		case other.Seq < last.Seq:
			v.report(
				History, number, st.At,
				one(
					v.Facts.RollbackBelow(slices.MinFunc([]step.Number{number, last.Number}, step.Compare)).
						For("if the order matters, roll both back here and promote again"),
				),
				"step %s was applied here after step %s, and in %s before it",
				named(number, st.Slug), last.Number, before.Name,
			)
		default:
			last = other
		}
	}
}

func named(number step.Number, slug string) string { return fmt.Sprintf("%s (%s)", number, slug) }
