package lane

import (
	"cmp"
	"fmt"
	"strings"
)

// Change is what a new declaration changes of what an environment asks, in
// words.
type Change struct {
	Environment string
	What        string
}

// Changes compares a lane's declaration with the one before: what each
// environment asks, what its target is, and where it stands in the order.
func Changes(before, after Lane) []Change {
	var list []Change
	add := func(environment, format string, args ...any) {
		list = append(list, Change{environment, fmt.Sprintf(format, args...)})
	}
	for _, e := range after.Environments {
		was, known := before.Environment(e.Name)
		if !known {
			add(e.Name, "the environment is new in the lane")
			continue
		}
		old := was.asking(before.Before(e.Name))
		for j, now := range e.asking(after.Before(e.Name)) {
			if now.value != old[j].value {
				add(e.Name, "%s: %s, was %s", now.key, now.value, old[j].value)
			}
		}
	}
	for _, e := range before.Environments {
		if _, still := after.Environment(e.Name); !still {
			add(e.Name, "the environment was taken out of the lane")
		}
	}
	return list
}

type said struct{ key, value string }

// asking is everything that a gate depends on, in words.
func (e Environment) asking(after string) []said {
	g := e.Asks()
	approvals := fmt.Sprint(g.Approvals)
	if g.NotAuthors {
		approvals += ", not by authors"
	}
	window := "none"
	if g.Window != nil {
		window = g.Window.String()
	}
	return []said{
		{"release", required(g.Release)}, {"previous-environment", required(g.Previous)}, {"approvals", approvals}, {"way-back", required(g.WayBack)},
		{"soak", Span(g.Soak)}, {"backup", Span(g.Backup)}, {"drift", map[bool]string{true: "refused", false: "not-asked"}[g.Drift]}, {"window", window},
		{"the environment before", cmp.Or(after, "none")}, {"target", e.Target}, {"disposable", fmt.Sprint(e.Disposable)}, {"schemas", strings.Join(e.Schemas, ", ")},
	}
}
