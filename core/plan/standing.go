package plan

import (
	"slices"

	"vorrang/core/ledger"
	"vorrang/core/step"
)

// Text names one file of a step.
type Text struct {
	Name     string        `json:"name"`
	Checksum step.Checksum `json:"checksum"`
}

// Step is what a plan knows of a step: everything but the texts themselves.
// Back and Check are nil where there is none.
type Step struct {
	Number  step.Number  `json:"number"`
	Slug    string       `json:"slug"`
	Options step.Options `json:"options"`
	Forward Text         `json:"forward"`
	Back    *Text        `json:"back,omitempty"`
	Check   *Text        `json:"check,omitempty"`
}

// Of describes a step that was read from a folder.
func Of(s step.Step) Step {
	text := func(f *step.File) *Text {
		if f == nil {
			return nil
		}
		return &Text{f.Name, f.Checksum}
	}
	return Step{Number: s.Number, Slug: s.Slug, Options: s.Options(),
		Forward: *text(&s.Forward), Back: text(s.Back), Check: text(s.Check)}
}

// Flag stands beside a step's state.
type Flag string

const (
	Edited  Flag = "edited"   // its text is no longer the text that was applied
	Absent  Flag = "absent"   // applied, but no longer in the catalogue
	Late    Flag = "late"     // pending, but a higher number is already applied
	NotHere Flag = "not here" // meant for other environments
)

// Standing is one step in one target: its state and the flags beside it.
type Standing struct {
	Step  Step // for an absent step only the number, the slug and the applied checksum
	State ledger.StepState
	Flags []Flag
}

// Has reports whether a flag stands beside the state.
func (s Standing) Has(flag Flag) bool { return slices.Contains(s.Flags, flag) }

// Waits reports whether a deployment would run the step.
func (s Standing) Waits() bool {
	return !s.State.Status.Present() && !s.State.Doubtful() && !s.Has(NotHere) && !s.Has(Absent)
}

// View is how a target stands to a lane's catalogue.
type View struct {
	Environment string
	State       ledger.State
	Steps       []Standing // in order of their numbers
}

// Look brings a catalogue, in order, and a target's state together.
func Look(environment string, catalogue []Step, state ledger.State) View {
	view := View{Environment: environment, State: state, Steps: make([]Standing, 0, len(catalogue))}
	named := 0 // steps of the state that the catalogue has
	highest := state.At()
	for _, s := range catalogue {
		if _, is := state.Steps[s.Number]; is {
			named++
		}
		view.Steps = append(view.Steps, stand(environment, s, state.Of(s.Number), highest))
	}
	if named == len(state.Steps) {
		return view
	}
	known := make(map[step.Number]bool, len(catalogue))
	for _, s := range catalogue {
		known[s.Number] = true
	}
	for number, st := range state.Steps {
		if known[number] || !leftSomething(st) {
			continue
		}
		view.Steps = append(view.Steps, Standing{
			Step: Step{
				Number:  number,
				Slug:    st.Slug,
				Forward: Text{Checksum: st.Checksum},
			}, State: st, Flags: []Flag{Absent}})
	}
	if len(view.Steps) == len(catalogue) {
		return view // as the catalogue, in order
	}
	slices.SortStableFunc(view.Steps, func(a, b Standing) int { return step.Compare(a.Step.Number, b.Step.Number) })
	return view
}

// leftSomething reports whether a step without a place in the catalogue still
// matters: its effect is there, or may be.
func leftSomething(st ledger.StepState) bool {
	return st.Status.Present() || st.Status == ledger.StatusInDoubt || st.Partly()
}

func stand(environment string, s Step, st ledger.StepState, highest step.Number) Standing {
	standing := Standing{Step: s, State: st}
	switch {
	case st.Status.Present():
		if st.Checksum != "" && st.Checksum != s.Forward.Checksum {
			standing.Flags = append(standing.Flags, Edited)
		}
	case !s.Options.In(environment):
		standing.Flags = append(standing.Flags, NotHere)
	case st.Status != ledger.StatusInDoubt && !st.Partly() && step.Compare(s.Number, highest) < 0:
		standing.Flags = append(standing.Flags, Late)
	}
	return standing
}

// With returns the steps beside which a flag stands.
func (v View) With(flag Flag) []Standing {
	return v.filter(func(s Standing) bool { return s.Has(flag) })
}

// Pending returns the steps that a deployment forward would run.
func (v View) Pending() []Standing { return v.filter(Standing.Waits) }

// InDoubt returns the steps whose effect is unknown, and which cannot go on by
// themselves.
func (v View) InDoubt() []Standing {
	return v.filter(func(s Standing) bool { return s.State.Doubtful() })
}

// HalfDone returns the steps of mode autocommit that stopped half-way forward.
func (v View) HalfDone() []Standing {
	return v.filter(func(s Standing) bool {
		return s.State.HalfDone() > 0 && s.State.Progress().Direction != ledger.Back
	})
}

// HalfBack returns the steps whose way back stopped half-way.
func (v View) HalfBack() []Standing {
	return v.filter(func(s Standing) bool {
		return s.State.Partly() && s.State.Progress().Direction == ledger.Back
	})
}

func (v View) filter(keep func(Standing) bool) []Standing {
	var list []Standing
	for _, s := range v.Steps {
		if keep(s) {
			list = append(list, s)
		}
	}
	return list
}

// Find returns the standing of a step, and false if neither the catalogue nor
// the ledger knows it.
func (v View) Find(number step.Number) (Standing, bool) {
	at, found := slices.BinarySearchFunc(v.Steps, number, func(s Standing, n step.Number) int {
		return step.Compare(s.Step.Number, n)
	})
	if !found {
		return Standing{}, false
	}
	return v.Steps[at], true
}
