package gate

import (
	"fmt"
	"strings"

	"vorrang/core/lane"
	"vorrang/core/remedy"
	"vorrang/internal/plural"
)

// everywhere asks a check about each target of the environment before, where that is a fleet: one
// that holds for any of them holds.
func (f Facts) everywhere(ask func(Facts) Check) Check {
	if len(f.PreviousFleet) == 0 {
		return ask(f)
	}
	var first Check
	var held []string
	var last Check
	for i := range f.PreviousFleet {
		f.Previous = &f.PreviousFleet[i]
		last = ask(f)
		if last.Verdict != Hold {
			continue
		}
		if held = append(held, f.Previous.Name); len(held) == 1 {
			first = last
		}
	}
	whole := lane.EnvironmentOf(f.Previous.Name)
	if len(held) == 0 {
		last.Evidence = strings.ReplaceAll(last.Evidence, f.Previous.Name, "every target of "+whole)
		return last
	}
	if len(held) > 1 {
		first.Evidence += fmt.Sprintf("; and so for %s more of %s: %s", plural.Of(len(held)-1, "target"), whole, Some(held[1:]))
	}
	return first.about(first.subject, held)
}

// mostNamed is how many targets a sentence names.
const mostNamed = 5

// Some names targets of a fleet in a sentence, by their own names: the first few, and how many more
// there are.
func Some(places []string) string {
	var names []string
	for i, place := range places {
		if i == mostNamed {
			names = append(names, fmt.Sprintf("%d more", len(places)-mostNamed))
			break
		}
		name := lane.TargetOf(place)
		if name == "" {
			name = place
		}
		names = append(names, name)
	}
	return strings.Join(names, ", ")
}

// Answer is what the gate of one target of a fleet said.
type Answer struct {
	Place  string // ENVIRONMENT.TARGET
	Result Result
}

// Away is a target of a fleet that could not be read.
type Away struct{ Place, Why string }

// Merge is the gate of a fleet: a check holds if it holds for any target, and names those. What is
// the same for all, as what is asked of the environment, is said once. The first check is whether
// all could be read: what nobody asked is never clear.
func Merge(environment string, answers []Answer, away []Away) Result {
	merged := Result{Checks: []Check{reachable(len(answers)+len(away), away)}}
	if len(answers) == 0 {
		return merged
	}
	for i := range answers[0].Result.Checks {
		merged.Checks = append(merged.Checks, mergeOne(environment, answers, i))
	}
	seen := map[string]bool{}
	for _, a := range answers {
		for _, note := range a.Result.Notes {
			if note = lane.Unnamed(note, a.Place); !seen[note] {
				seen[note] = true
				merged.Notes = append(merged.Notes, note)
			}
		}
	}
	return merged
}

func reachable(of int, away []Away) Check {
	if len(away) == 0 {
		return pass(Reachable, "%s could be read", plural.Of(of, "target"))
	}
	places, why := make([]string, len(away)), make([]string, len(away))
	for i, one := range away {
		places[i], why[i] = one.Place, one.Why
	}
	evidence := fmt.Sprintf("%d of %s could not be read (%s): %s",
		len(away), plural.Of(of, "target"), Some(places), Example(places, why))
	return hold(Reachable, evidence,
		remedy.ByHand("let the service reach them, or set them aside with a reason")).about(places)
}

// Example is what is said of one place, or of several in the same words, or else what is said of the first, with its
// name. A place's own name in what is said of it makes no difference.
func Example(places, said []string) string {
	if len(places) == 1 {
		return said[0]
	}
	first := lane.Unnamed(said[0], places[0])
	for i, one := range said {
		if lane.Unnamed(one, places[i]) != first {
			return lane.TargetOf(places[0]) + ": " + first
		}
	}
	return first
}

// mergeOne merges what the targets' gates say of the check with a number.
func mergeOne(environment string, answers []Answer, number int) Check {
	worst := answers[0].Result.Checks[number]
	held := 0
	for _, a := range answers {
		c := a.Result.Checks[number]
		if c.Verdict == Hold {
			held++
		}
		if c.Verdict == Hold && worst.Verdict != Hold || worst.Verdict == NotAsked {
			worst = c
		}
	}
	var of []Answer // those that say the same as the worst
	for _, a := range answers {
		if a.Result.Checks[number].Verdict == worst.Verdict {
			of = append(of, a)
		}
	}
	said := lane.Alike(len(of), func(i int) (string, string) { return of[i].Place, of[i].Result.Checks[number].Evidence })
	merged := worst
	merged.Evidence = lane.Unnamed(of[0].Result.Checks[number].Evidence, of[0].Place)
	switch {
	case worst.Verdict != Hold:
	case held == len(answers) && len(said) == 1: // it is about all of them
		merged.Remedies = nil
		for _, r := range worst.Remedies {
			if lane.EnvironmentOf(r.Arguments.Environment) == environment {
				r.Arguments.Environment = environment
			}
			merged.Remedies = append(merged.Remedies, r)
		}
	default:
		var parts []string
		for _, group := range said[:min(len(said), mostNamed)] {
			var places, evidence []string
			for _, i := range group {
				places, evidence = append(places, of[i].Place), append(evidence, of[i].Result.Checks[number].Evidence)
			}
			parts = append(parts, Some(places)+": "+Example(places, evidence))
		}
		if more := len(said) - mostNamed; more > 0 {
			parts = append(parts, "and other reasons for "+plural.Of(more, "more target"))
		}
		merged.Evidence = strings.Join(parts, "; ")
	}
	return merged
}
