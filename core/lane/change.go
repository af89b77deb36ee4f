package lane

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"vorrang/core/review"
)

// Change is what a new declaration changes of what an environment asks, in
// words.
type Change struct {
	Environment string `json:"environment"`
	What        string `json:"what"`
	Loosens     bool   `json:"loosens,omitempty" description:"It asks for less than before, moves a target, or drops an environment."`
}

// Changes compares a lane's declaration with the one before: what each
// environment asks, what its target is, and where it is in the order.
func Changes(before, after Lane) []Change {
	var list []Change
	add := func(environment string, loosens bool, format string, args ...any) {
		list = append(list, Change{environment, fmt.Sprintf(format, args...), loosens})
	}
	for _, e := range after.Environments {
		was, known := before.Environment(e.Name)
		if !known {
			add(e.Name, false, "the environment is new in the lane")
			continue
		}
		old, rules := was.rules(before.Before(e.Name)), e.rules(after.Before(e.Name))
		if was.Fleet != nil && e.Fleet != nil {
			old, rules = append(old, was.Fleet.rules()...), append(rules, e.Fleet.rules()...)
		}
		for j, now := range rules {
			if now.value != old[j].value {
				add(e.Name, now.loosens(old[j]), "%s: %s, was %s", now.key, now.value, old[j].value)
			}
		}
		targetChanges(was, e, func(loosens bool, format string, args ...any) { add(e.Name, loosens, format, args...) })
	}
	if was, is := before.may(), after.may(); was != is && len(before.Environments) > 0 {
		more := slices.ContainsFunc(
			after.StepsMay,
			func(one string) bool { return !slices.Contains(before.StepsMay, one) },
		)
		for _, e := range after.Environments {
			add(e.Name, more, "steps-may: %s, was %s", is, was)
		}
	}
	for _, e := range before.Environments {
		if _, still := after.Environment(e.Name); !still {
			add(e.Name, true, "the environment was taken out of the lane")
		}
	}
	return list
}

// may is what steps may change, in words.
func (l Lane) may() string { return cmp.Or(strings.Join(l.StepsMay, ", "), "none") }

// rule is one thing that an environment asks, or is.
type rule struct {
	key, value string
	weight     int64 // how much is asked; a smaller one asks for less
	fixed      bool  // any other value is looser, or leads elsewhere
}

func (s rule) loosens(before rule) bool {
	// other hours may be more, and other people or owners are others
	other := slices.Contains([]string{"window", "signers", "ledger-role", "mask"}, s.key) && before.weight > 0
	return s.fixed || other || s.weight < before.weight
}

// Words are what the gate asks beyond what every gate asks.
func (g Gate) Words() []string {
	var list []string
	for _, one := range (Environment{Gate: &g}).rules("") {
		if one.weight > 0 {
			list = append(list, one.key+": "+one.value)
		}
	}
	return list
}

func asked(is bool) int64 {
	if is {
		return 1
	}
	return 0
}

// rules are everything that a gate depends on, in words.
func (e Environment) rules(after string) []rule {
	g := e.Asks()
	approvals := fmt.Sprint(g.Approvals)
	if g.NotAuthors {
		approvals += ", not by authors"
	}
	window := "none"
	if g.Window != nil {
		window = g.Window.String()
	}
	authors := int64(g.Approvals) * 2
	if g.NotAuthors {
		authors++
	}
	var signers []string
	for _, key := range g.Signers {
		signers = append(signers, key.Holder+" "+key.Fingerprint)
	}
	freshness := int64(0) // a younger backup is more
	if g.Backup > 0 {
		freshness = math.MaxInt64 - int64(g.Backup)
	}
	drift := map[bool]string{true: "refused", false: "not-asked"}[g.Drift]
	targets := "none"
	if e.Fleet != nil {
		targets = cmp.Or(e.Fleet.From, "named one by one")
	}
	return []rule{
		{"release", required(g.Release), asked(g.Release), false},
		{"previous-environment", required(g.Previous), asked(g.Previous), false},
		{"approvals", approvals, authors, false},
		{"signers", cmp.Or(strings.Join(signers, ", "), "none"), asked(len(signers) > 0), false},
		{"way-back", required(g.WayBack), asked(g.WayBack), false},
		{"soak", Span(g.Soak), int64(g.Soak), false},
		{"backup", Span(g.Backup), freshness, false},
		{"drift", drift, asked(g.Drift), false},
		{"rehearsal", required(g.Rehearsal), asked(g.Rehearsal), false},
		{"findings", cmp.Or(string(g.Findings), "not-asked"), int64(1 + slices.Index(review.Severities, g.Findings)), false},
		{"window", window, asked(g.Window != nil), false},
		{"the environment before", cmp.Or(after, "none"), asked(after != ""), false},
		{"target", cmp.Or(e.Target, "none"), 0, true},
		{"targets", targets, 0, true},
		{"scratch", cmp.Or(e.Scratch, "not declared"), 0, true},
		{"rehearse-on", cmp.Or(e.RehearseOn, "not declared"), 0, true},
		{"mask", cmp.Or(strings.Join(e.Mask, ", "), "nothing"), int64(len(e.Mask)), false},
		{"ledger-role", cmp.Or(e.LedgerRole, "none"), asked(e.LedgerRole != ""), false},
		{"ledger-key", cmp.Or(e.LedgerKey, "none"), 0, false},
		{"disposable", fmt.Sprint(e.Disposable), -asked(e.Disposable), false},
		{"schemas", strings.Join(e.Schemas, ", "), 0, true},
	}
}

// rules are how a deployment goes through a fleet, in words.
func (w Waves) rules() []rule {
	size := "all that are left"
	if w.Size > 0 {
		size = fmt.Sprint(w.Size)
	}
	return []rule{
		{"canary", fmt.Sprint(w.Canary), int64(w.Canary), false},
		{"size", size, -int64(cmp.Or(w.Size, mostTargets+1)), false},
		{"at-once", fmt.Sprint(w.AtOnce), 0, false},
		{"tolerate", fmt.Sprint(w.Tolerate), -int64(w.Tolerate), false},
	}
}

// fleet is that of an environment; an empty one for a single target.
func (e Environment) fleet() Fleet {
	if e.Fleet == nil {
		return Fleet{}
	}
	return *e.Fleet
}

// targetChanges tells which targets of a fleet are new, which lead elsewhere, and which are gone. Of a list that
// nobody read, nothing is known.
func targetChanges(before, after Environment, add func(loosens bool, format string, args ...any)) {
	if before.fleet().unread() || after.fleet().unread() {
		return
	}
	was := map[string]string{}
	for _, t := range before.fleet().Targets {
		was[t.Name] = t.Reference
	}
	for _, t := range after.fleet().Targets {
		switch old, known := was[t.Name]; {
		case !known && before.Fleet != nil:
			add(false, "the target %s is new in the fleet", t.Name)
		case known && old != t.Reference:
			add(true, "the target %s: %s, was %s", t.Name, t.Reference, old)
		}
		delete(was, t.Name)
	}
	for _, t := range before.fleet().Targets {
		if _, gone := was[t.Name]; gone {
			add(true, "the target %s was taken out of the fleet", t.Name)
		}
	}
}
