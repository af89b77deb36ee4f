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
		len(away), plural.Of(of, "target"), Some(places), Example(places[0], why))
	return hold(Reachable, evidence,
		remedy.ByHand("let the service reach them, or set them aside with a reason")).about(places)
}

// Example is what is said of several targets: the same of all, or what is said of the first, with its name.
func Example(first string, said []string) string {
	for _, one := range said {
		if one != said[0] {
			return lane.TargetOf(first) + ": " + said[0]
		}
	}
	return said[0]
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
	var said []*saying
	known := map[string]*saying{}
	for _, a := range answers {
		c := a.Result.Checks[number]
		if c.Verdict != worst.Verdict {
			continue
		}
		ofAll := lane.Unnamed(c.Evidence, a.Place)
		if known[ofAll] == nil {
			known[ofAll] = &saying{own: c.Evidence, ofAll: ofAll}
			said = append(said, known[ofAll])
		}
		known[ofAll].places = append(known[ofAll].places, a.Place)
	}
	merged := worst
	merged.Evidence = said[0].ofAll
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
		for _, one := range said[:min(len(said), mostNamed)] {
			parts = append(parts, one.String())
		}
		if more := len(said) - mostNamed; more > 0 {
			parts = append(parts, "and other reasons for "+plural.Of(more, "more target"))
		}
		merged.Evidence = strings.Join(parts, "; ")
	}
	return merged
}

// saying is what a check says of targets of a fleet.
type saying struct {
	places []string
	own    string // of the first of them
	ofAll  string // the same without its name
}

func (s saying) String() string {
	if len(s.places) == 1 {
		return Some(s.places) + ": " + s.own
	}
	return Some(s.places) + ": " + s.ofAll
}
