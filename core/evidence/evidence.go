package evidence

import (
	"fmt"
	"slices"
	"strings"
)

// Observation is what a look at the catalogs found of an object.
type Observation struct {
	Object
	There   bool `json:"there"`
	Invalid bool `json:"invalid,omitempty" description:"An index whose build did not end, or a constraint that was not validated."`
}

// Right reports whether the object is as the script should leave it.
func (s Observation) Right() bool { return s.There != s.Gone && !s.broken() }

// broken reports whether an index is there that is of no use.
func (s Observation) broken() bool { return s.Kind == Index && s.There && s.Invalid }

// String is "index harbour.berth_name is there, but INVALID".
func (s Observation) String() string {
	is := "is there"
	switch {
	case s.broken():
		is = "is there, but INVALID: its build did not end"
	case s.There && s.Gone:
		is = "is still there"
	case !s.There && !s.Gone:
		is = "is not there"
	case !s.There:
		is = "is gone, as it should be"
	}
	return s.Object.String() + " " + is
}

// Outcome is what a step's check came to.
type Outcome struct {
	Query string `json:"query"`
	Line  int    `json:"line"`
	Holds bool   `json:"holds"`
	Got   string `json:"got" description:"What it gave, or the server's error."`
}

// Evidence is what a look at a target found about a step.
type Evidence struct {
	Check        []Outcome      `json:"check" nullable:"false" description:"A line for each query of the step's check; none where it has no check."`
	Observations []Observation  `json:"observations" nullable:"false"`
	Unverifiable []Unverifiable `json:"blind" nullable:"false" description:"Statements that leave nothing that could be looked up."`
}

// Checked reports whether the step has a check, and whether all of it holds.
func (e Evidence) Checked() (has, holds bool) {
	for _, c := range e.Check {
		if !c.Holds {
			return true, false
		}
	}
	return len(e.Check) > 0, len(e.Check) > 0
}

// Wrong lists what is not as the step should have left it, a line each. With a
// check that holds nothing is; with one that does not, that is.
func (e Evidence) Wrong() []string {
	wrong := []string{}
	for _, c := range e.Check {
		if !c.Holds {
			wrong = append(wrong, fmt.Sprintf("the check in line %d does not hold: it gave %s", c.Line, c.Got))
		}
	}
	if has, _ := e.Checked(); has {
		return wrong
	}
	for _, s := range e.Observations {
		if !s.Right() {
			wrong = append(wrong, fmt.Sprintf("%s (%s)", s, s.In()))
		}
	}
	if len(e.Observations) == 0 {
		wrong = append(
			wrong,
			"the step has no check and creates, alters or drops nothing that could be looked up"+e.blindWords(),
		)
	}
	return wrong
}

func (e Evidence) blindWords() string {
	var words []string
	for _, b := range e.Unverifiable {
		words = append(words, fmt.Sprintf("%s in line %d", b.What, b.Line))
	}
	if len(words) == 0 {
		return ""
	}
	return ": " + strings.Join(words[:min(len(words), 5)], ", ")
}

// Lines is all of the evidence, a line each.
func (e Evidence) Lines() []string {
	lines := []string{}
	for _, c := range e.Check {
		word := "holds"
		if !c.Holds {
			word = "does not hold: it gave " + c.Got
		}
		lines = append(lines, fmt.Sprintf("the check in line %d %s", c.Line, word))
	}
	for _, s := range e.Observations {
		lines = append(lines, s.String())
	}
	if n := len(e.Unverifiable); n > 0 {
		lines = append(lines, fmt.Sprintf("%d of the statements cannot be looked up%s", n, e.blindWords()))
	}
	return lines
}

// Invalid lists the indexes that are there and of no use.
func (e Evidence) Invalid() []Object {
	var broken []Object
	for _, s := range e.Observations {
		if s.broken() {
			broken = append(broken, s.Object)
		}
	}
	return broken
}

// AllMade reports whether the step creates anything, and all of that is there.
func (e Evidence) AllMade() bool {
	made := 0
	for _, s := range e.Observations {
		if !s.Made || s.Gone {
			continue
		}
		if made++; !s.Right() {
			return false
		}
	}
	return made > 0
}

// Verdict is what evidence says about a statement in doubt.
type Verdict string

const (
	TookEffect Verdict = "applied"     // it did what it should
	NoEffect   Verdict = "not-applied" // it did nothing, and may run again
	Unclear    Verdict = "unclear"     // somebody has to look
)

// Telling are those of a statement's objects by which it can be told what became of it:
// what it makes and drops, but not what comes with a table that it makes.
func Telling(objects []Object) []Object {
	return slices.DeleteFunc(slices.Clone(objects), func(o Object) bool {
		comesAlong := slices.ContainsFunc(
			objects,
			func(t Object) bool { return t.Kind == Table && t.Made && o.Of == t.Name && o.Schema == t.Schema },
		)
		return !o.Made && !o.Gone || comesAlong
	})
}

// Before is what a look found of the objects that a statement makes and drops, just
// before it began: "table berth", or "no table berth". Of nothing that tells it is
// empty.
func Before(looked []Observation) []string {
	var found []string
	for _, s := range looked {
		switch {
		case !s.Made && !s.Gone:
		case s.There:
			found = append(found, s.Object.String())
		default:
			found = append(found, no+s.Object.String())
		}
	}
	return found
}

const no = "no "

// JudgeWhole says what became of a statement that takes effect as a whole or not at
// all, by what was there before it began. It is Unclear where that tells nothing, or
// where it was changed meanwhile.
func JudgeWhole(e Evidence, before []string) (Verdict, string) {
	did, didNot, changes := true, true, ""
	objects := make([]Object, len(e.Observations))
	for i, s := range e.Observations {
		objects[i] = s.Object
	}
	telling := Telling(objects)
	for _, s := range e.Observations {
		if !slices.ContainsFunc(telling, func(o Object) bool { return o.String() == s.Object.String() }) {
			continue
		}
		was := slices.Contains(before, s.Object.String())
		if !was && !slices.Contains(before, no+s.Object.String()) {
			return Unclear, "what was there before the statement began is not known"
		}
		did, didNot = did && s.Right(), didNot && s.There == was
		if was == s.Gone {
			changes = s.String()
		}
	}
	switch {
	case changes == "":
		return Unclear, "the statement changes nothing in the catalogs that was not so before"
	case did:
		return TookEffect, "the statement takes effect as a whole or not at all, and now " + changes +
			", which was not so before it began"
	case didNot:
		return NoEffect, "the statement takes effect as a whole or not at all, and " + changes + ", as before it began"
	}
	return Unclear, "what is there is neither as before the statement began nor as it should have left it: " + changes
}

// Judge says what became of the statement in doubt, the one with a number of so
// many. evidence is of this statement, with the step's check. Only a check can
// be conclusive: the author wrote it to say whether the step is there. That it
// holds settles the last statement. That it does not hold settles a statement
// only if the catalogs agree that nothing of it is there: a change of rows
// that ran twice would be worse than a question.
func Judge(e Evidence, statement, of int) (Verdict, string) {
	has, holds := e.Checked()
	switch {
	case !has:
		return Unclear, "the step has no check that could decide"
	case len(e.Invalid()) > 0:
		return Unclear, e.Invalid()[0].String() + " was left INVALID, and has to be dropped first"
	case holds && statement >= of:
		return TookEffect, "the step's check holds, and this was its last statement"
	case holds:
		return Unclear, fmt.Sprintf(
			"the step's check holds already, though statement %d of %d is not its last: it cannot tell",
			statement, of,
		)
	}
	telling := "" // of what the statement makes or takes away; that an altered table is there tells nothing
	for _, s := range e.Observations {
		switch {
		case !s.Made && !s.Gone:
		case s.Right():
			return Unclear, fmt.Sprintf("the step's check does not hold, and yet %s", s)
		default:
			telling = s.String()
		}
	}
	if telling == "" {
		return Unclear, "the step's check does not hold, and the statement leaves nothing in the catalogs that could " +
			"be looked up"
	}
	return NoEffect, "the step's check does not hold, and " + telling
}
