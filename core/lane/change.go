package lane

import (
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
	for i, e := range after.Environments {
		was, known := before.Environment(e.Name)
		if !known {
			add(e.Name, "the environment is new in the lane")
			continue
		}
		old := was.asking(before.comesAfter(e.Name))
		for j, now := range e.asking(after.comesAfter(after.Environments[i].Name)) {
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

// comesAfter is the environment before, in the order of promotion.
func (l Lane) comesAfter(name string) string {
	for i, e := range l.Environments {
		if e.Name == name && i > 0 {
			return l.Environments[i-1].Name
		}
	}
	return "none"
}

type said struct{ key, value string }

// asking is everything that a gate depends on, in words.
func (e Environment) asking(after string) []said {
	g := e.Asks()
	word := func(is bool) string {
		if is {
			return "required"
		}
		return "not-asked"
	}
	approvals := fmt.Sprint(g.Approvals)
	if g.NotAuthors {
		approvals += ", not by authors"
	}
	window := "none"
	if g.Window != nil {
		window = g.Window.String()
	}
	return []said{
		{"release", word(g.Release)}, {"previous-environment", word(g.Previous)}, {"approvals", approvals}, {"way-back", word(g.WayBack)},
		{"soak", Span(g.Soak)}, {"backup", Span(g.Backup)}, {"window", window},
		{"the environment before", after}, {"target", e.Target}, {"disposable", fmt.Sprint(e.Disposable)}, {"schemas", strings.Join(e.Schemas, ", ")},
	}
}
