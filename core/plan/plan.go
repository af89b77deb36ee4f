package plan

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"vorrang/core/ledger"
	"vorrang/core/step"
	"vorrang/internal/plural"
)

// Action is one step to run, in one direction.
type Action struct {
	Direction ledger.Direction `json:"direction"`
	Step      Step             `json:"step"`
	Resume    int              `json:"resume,omitempty"` // the statement to go on at, from 1, where an earlier try stopped half-way
	Done      string           `json:"done,omitempty"`   // checksum of the statements before it
	Rows      int64            `json:"rows,omitempty"`   // that earlier tries of a batches step changed
	Half      int              `json:"half,omitempty"`   // back: only so many statements of the forward script took effect; 0 for all
}

// Policy says what becomes of a deployment's earlier steps when one fails.
type Policy string

const (
	Stop    Policy = "stop"     // they stay
	BackOut Policy = "back-out" // their ways back run, newest first
)

// Plan is the ordered actions of a deployment. It may be empty: nothing to do.
type Plan struct {
	Direction ledger.Direction `json:"direction"`
	Empties   bool             `json:"empties,omitempty"` // the application's schemas are emptied first
	Emptied   []Step           `json:"emptied,omitempty"` // the steps whose effect goes with that, newest first
	Actions   []Action         `json:"actions"`
	OnFailure Policy           `json:"on_failure,omitempty"` // empty means Stop
	Whole     bool             `json:"whole,omitempty"`      // all actions in one transaction
}

// Within reports whether another plan, made later, still does everything that
// this one does, in the same way. It may do more.
func (p Plan) Within(later Plan) bool {
	still := map[step.Number]Action{}
	for _, a := range later.Actions {
		still[a.Step.Number] = a
	}
	for _, a := range p.Actions {
		if !same(a, still[a.Step.Number]) {
			return false
		}
	}
	return p.Direction == later.Direction && p.Empties == later.Empties && same(p.Emptied, later.Emptied)
}

// same compares by what is written down.
func same[T any](a, b T) bool {
	one, err := json.Marshal(a)
	other, bad := json.Marshal(b)
	return err == nil && bad == nil && bytes.Equal(one, other)
}

// Promise checks that a plan can keep what OnFailure and Whole promise. The
// error is an *Error that names each step that cannot.
func (p Plan) Promise() error {
	if p.Whole {
		if steps := p.naming(func(a Action) bool { return a.Step.Options.Mode != step.Transaction }); steps != "" {
			return refuse(
				"these steps cannot run in one transaction with others: %s; promote up to before the first of them as a whole, "+
					"and the rest without -whole",
				steps,
			)
		}
	}
	if p.OnFailure == BackOut && !p.Whole {
		if steps := p.naming(func(a Action) bool { return a.Step.Back == nil }); steps != "" {
			return refuse(
				"these steps have no way back, so nothing could be backed out if a later one failed: %s; write their .back.sql "+
					"files and submit, or promote with -on-failure stop",
				steps,
			)
		}
	}
	return nil
}

func (p Plan) naming(is func(Action) bool) string {
	var names []string
	for _, a := range p.Actions {
		if is(a) {
			names = append(names, fmt.Sprintf("%s (%s, mode %s)", a.Step.Number, a.Step.Slug, a.Step.Options.Mode))
		}
	}
	return strings.Join(names, ", ")
}

// Texts lists the texts of a plan's files in the order in which a deployment asks for them.
func (p Plan) Texts() []step.Checksum {
	var order []step.Checksum
	for _, a := range p.Actions {
		if a.Direction == ledger.Back {
			order = append(order, a.Step.Back.Checksum)
			if a.Half > 0 {
				order = append(order, a.Step.Forward.Checksum)
			}
			continue
		}
		order = append(order, a.Step.Forward.Checksum)
		if a.Step.Check != nil {
			order = append(order, a.Step.Check.Checksum)
		}
	}
	return order
}

// Numbers are the steps' numbers in the order in which they are run.
func (p Plan) Numbers() []step.Number {
	numbers := make([]step.Number, len(p.Actions))
	for i, a := range p.Actions {
		numbers[i] = a.Step.Number
	}
	return numbers
}

// Error says why there is no plan for a request.
type Error struct{ Reason string }

func (e *Error) Error() string { return e.Reason }

func refuse(format string, args ...any) error {
	return &Error{Reason: fmt.Sprintf(format, args...)}
}

// Forward plans every step that waits, up to a number (all if it is empty).
// The error is an *Error.
func Forward(view View, through step.Number) (Plan, error) {
	p := Plan{Direction: ledger.Forward}
	if through != "" {
		if _, known := view.Find(through); !known {
			return p, refuse("there is no step %s in the catalogue", through)
		}
	}
	for _, s := range view.Pending() {
		if through != "" && step.Compare(s.Step.Number, through) > 0 {
			break
		}
		action := Action{Direction: ledger.Forward, Step: s.Step}
		if s.State.Progress().Direction != ledger.Back {
			action.goOn(s.State)
		}
		p.Actions = append(p.Actions, action)
	}
	return p, nil
}

// goOn lets an action begin where an earlier try stopped.
func (a *Action) goOn(st ledger.StepState) {
	if st.Partly() {
		a.Resume, a.Done, a.Rows = st.Progress().Statement, st.Progress().Done, st.Progress().Rows
	}
}

// Rebuild plans to empty a target and to run every step that is meant
// for it.
func Rebuild(view View) Plan {
	p := Plan{Direction: ledger.Forward, Empties: true}
	there := view.filter(func(s Standing) bool { return leftSomething(s.State) })
	slices.SortStableFunc(there, func(a, b Standing) int { return int(b.State.Seq - a.State.Seq) })
	for _, s := range there {
		p.Emptied = append(
			p.Emptied,
			Step{Number: s.Step.Number, Slug: s.Step.Slug, Forward: Text{Checksum: s.State.Checksum}},
		)
	}
	for _, s := range view.Steps {
		if !s.Has(Absent) && s.Step.Options.In(view.Environment) {
			p.Actions = append(p.Actions, Action{Direction: ledger.Forward, Step: s.Step})
		}
	}
	return p
}

// Way says how far a rollback goes. Exactly one of its fields is set.
type Way struct {
	Last       int         // so many steps
	Each       bool        // Last is of each target of a fleet: where no step was run there is nothing to do
	To         step.Number // everything above this number; "0" is everything
	Deployment string      // what this deployment applied
	Began      time.Time   // when Deployment began, by what is known beside the ledger; zero where nothing is

	Keep map[step.Number]bool // everything but these; nil where another field is set
	Of   map[step.Number]bool // what is still here of these, which have to be the newest; nil where another field is set
}

// Back plans ways back, newest first. versions gives the step as it was when
// its text with this checksum was submitted, so that an edited or absent step
// goes back by the way that belongs to what was applied. The error is an
// *Error.
func Back(view View, way Way, versions func(step.Number, step.Checksum) (Step, bool)) (Plan, error) {
	p := Plan{Direction: ledger.Back}
	chosen, err := choose(view, way)
	if err != nil {
		return p, err
	}
	var without []string
	for _, st := range chosen {
		s, known := versions(st.Number, st.Checksum)
		if !known || s.Back == nil {
			without = append(without, fmt.Sprintf("%s (%s)", st.Number, st.Slug))
			continue
		}
		action := Action{Direction: ledger.Back, Step: s, Half: st.HalfDone()}
		if st.Progress().Direction == ledger.Back {
			action.goOn(st)
		}
		p.Actions = append(p.Actions, action)
	}
	if len(without) > 0 {
		return p, refuse(
			"there is no way back for step %s; write its .back.sql file and submit it, or roll back fewer steps",
			strings.Join(without, ", "),
		)
	}
	return p, nil
}

func choose(view View, way Way) ([]ledger.StepState, error) {
	newest := newestFirst(view)
	switch {
	case way.Last > 0:
		switch {
		case len(newest) == 0 && way.Each:
			return nil, nil
		case len(newest) == 0:
			return nil, refuse("no step was run here that could be rolled back%s", coveredNote(view))
		case way.Last > len(newest):
			return nil, refuse("only %s run here; %d cannot be rolled back%s",
				plural.Count(len(newest), "step was", "steps were"), way.Last, coveredNote(view))
		}
		return newest[:way.Last], nil
	case way.To != "":
		return above(view, newest, way.To)
	case way.Deployment != "":
		if view.State.Reused(way.Deployment, way.Began) {
			return nil, refuse(
				"the ledger holds two deployments %s, as after the service's records were restored from an older copy; say "+
					"which steps are meant: roll back to a step, or so many",
				way.Deployment,
			)
		}
		return ofDeployment(newest, way.Deployment)
	case way.Of != nil:
		return leftOf(newest, way.Of)
	case way.Keep != nil:
		return slices.DeleteFunc(newest, func(st ledger.StepState) bool { return way.Keep[st.Number] }), nil
	}
	return nil, refuse("say how far to roll back: a number of steps, a step, a deployment, or a release")
}

// leftOf is what is here of some steps, unless another one was run after one of them.
func leftOf(newest []ledger.StepState, of map[step.Number]bool) ([]ledger.StepState, error) {
	left := slices.IndexFunc(newest, func(st ledger.StepState) bool { return !of[st.Number] })
	if left < 0 {
		return newest, nil
	}
	for _, st := range newest[left:] {
		if of[st.Number] {
			return nil, refuse("step %s was run here after step %s, which was to be rolled back: the history went on since that was "+
				"asked for", newest[left].Number, st.Number)
		}
	}
	return newest[:left], nil
}

// newestFirst lists what can be rolled back: steps that were run here,
// and those that stopped half-way, forward or back.
func newestFirst(view View) []ledger.StepState {
	var list []ledger.StepState
	for _, s := range view.filter(func(s Standing) bool { return s.State.Partly() }) {
		list = append(list, s.State)
	}
	for _, number := range view.State.Order {
		list = append(list, view.State.Steps[number])
	}
	slices.SortFunc(list, func(a, b ledger.StepState) int { return int(b.Seq - a.Seq) })
	return list
}

func coveredNote(view View) string {
	if view.State.Baseline == "" || view.State.Baseline == "0" {
		return ""
	}
	return fmt.Sprintf("; steps up to %s are covered by the baseline, and were never run here", view.State.Baseline)
}

func above(view View, newest []ledger.StepState, to step.Number) ([]ledger.StepState, error) {
	if _, known := view.Find(to); !known && to != "0" {
		return nil, refuse("there is no step %s; 0 stands for the beginning", to)
	}
	if to == "0" && coveredNote(view) != "" {
		return nil, refuse("the beginning lies below the baseline%s", coveredNote(view))
	}
	if view.State.Covers(to) && to != view.State.Baseline {
		return nil, refuse(
			"step %s lies below the baseline %s; what it covers was never run here and cannot be rolled back",
			to, view.State.Baseline,
		)
	}
	return slices.DeleteFunc(newest, func(st ledger.StepState) bool {
		return step.Compare(st.Number, to) <= 0
	}), nil
}

func ofDeployment(newest []ledger.StepState, deployment string) ([]ledger.StepState, error) {
	var chosen []ledger.StepState
	var later []string
	for _, st := range newest {
		if st.Deployment == deployment {
			chosen = append(chosen, st)
		} else if len(chosen) == 0 {
			later = append(later, string(st.Number))
		}
	}
	switch {
	case len(chosen) == 0:
		return nil, refuse("nothing that deployment %s applied is in this target", deployment)
	case len(later) > 0:
		return nil, refuse(
			"%s %s %s run after deployment %s; roll back what came later first, or roll back to a step below both",
			plural.Word(len(later), "step", "steps"), strings.Join(later, ", "), plural.Word(len(later), "was", "were"),
			deployment,
		)
	}
	return chosen, nil
}
