package evidence

import (
	"fmt"

	"vorrang/core/sqltext"
)

// A half-done script is undone by those statements of its way back that meet
// something to undo.

// Reader reads what statements should leave behind, by an engine's grammar: from a
// statement on, up to another (both from 1, both included; a last of 0 is the end).
type Reader func(statements []sqltext.Statement, first, last int) Script

// Targets lists, for each statement of a way back, the objects that it creates,
// alters or drops.
func Targets(read Reader, back []sqltext.Statement) [][]Object {
	all := make([][]Object, len(back))
	for i := range back {
		all[i] = read(back, i+1, i+1).Objects
	}
	return all
}

// Undo says which statements of a way back are to run, where only a part of the
// step took effect: sets is what they leave in their session, seen what a look
// found of the Targets. A drop runs where the object is there, a creation where it
// is not; that nothing of the step is left is checked afterwards, by Remains. Statements of which the catalogs do not tell
// whether they are needed make an error that names the first of them.
func Undo(back []sqltext.Statement, sets sqltext.Session, seen [][]Observation) (run []bool, err error) {
	run = make([]bool, len(back))
	session := map[int]bool{}
	for _, s := range sets.Again {
		session[s.Offset] = true
	}
	for i, s := range back {
		if session[s.Offset] {
			run[i] = true // it only sets the session
			continue
		}
		told := 0
		for _, o := range seen[i] {
			if !o.Gone && !o.Made {
				continue
			}
			told++
			run[i] = run[i] || o.There == o.Gone
		}
		if told == 0 {
			return nil, fmt.Errorf(
				"whether statement %d of the way back (line %d, %s) is to run cannot be told: the catalogs do not show what it "+
					"would undo",
				i+1, s.Line, FirstWords(s.SQL),
			)
		}
	}
	return run, nil
}

// Remains lists what is still as the first so many statements of a script left
// it, a line each; looked is what a look found of their Effects.
func Remains(looked []Observation) []string {
	return lines(looked, func(s Observation) bool { return (s.Made || s.Gone) && s.There == s.Made })
}

// Missing lists what is not as a script left it, a line each.
func Missing(looked []Observation) []string {
	return lines(looked, func(s Observation) bool { return !s.Right() })
}

// lines lists some observations, without what belongs to a table that is among them.
func lines(looked []Observation, is func(Observation) bool) []string {
	var list []string
	whole := map[string]bool{}
	for _, s := range looked {
		whole[s.Schema+"."+s.Name] = whole[s.Schema+"."+s.Name] || s.Of == "" && is(s)
	}
	for _, s := range looked {
		if is(s) && (s.Of == "" || !whole[s.Schema+"."+s.Of]) {
			list = append(list, s.String())
		}
	}
	return list
}

// Effects lists what the first so many statements of a script made or dropped.
func Effects(read Reader, forward []sqltext.Statement, took int) []Object {
	var list []Object
	if took == 0 {
		return nil
	}
	for _, o := range read(forward, 1, took).Objects {
		if o.Made || o.Gone {
			list = append(list, o)
		}
	}
	return list
}
