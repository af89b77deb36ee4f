package lane

import (
	"fmt"
	"regexp"
	"strings"
)

// Fleet is what an environment with more than one target has instead of a target: which they
// are, and in which waves a deployment reaches them.
type Fleet struct {
	Targets []Target `json:"targets,omitempty" description:"In the order in which a deployment reaches them."`
	From    string   `json:"from,omitempty" description:"A reference to a list of the targets instead: a line each, with a name and a connection URL."`
	Unread  string   `json:"-"` // why the list cannot be read; empty where it can
	Gone    []string `json:"-"` // those of the targets whose line is gone from the list
	Waves
}

// unread reports whether the targets stand in a list that was not read.
func (f Fleet) unread() bool { return f.From != "" && len(f.Targets) == 0 }

// Waves say how a deployment goes through a fleet.
type Waves struct {
	Canary   int `json:"canary,omitempty" description:"How many targets the first wave has; 0 for no such wave."`
	Size     int `json:"size,omitempty" description:"How many targets each later wave has; 0 for all that are left."`
	AtOnce   int `json:"at_once" description:"How many targets are changed at the same time."`
	Tolerate int `json:"tolerate,omitempty" description:"How many targets may fail, be held or be away before no further one begins."`
}

// Target is one target of a fleet.
type Target struct {
	Name      string `json:"name"`
	Reference string `json:"target"`
}

// usualWaves are those of a fleet that says nothing of them.
var usualWaves = Waves{Canary: 1, AtOnce: 8}

// mostTargets is how many targets a fleet may have, mostAtOnce how many are changed at the same
// time.
const (
	mostTargets = 5000
	mostAtOnce  = 64
)

// between stands between an environment's name and that of its target: no name has it.
const between = "."

// PlaceName names one target of a fleet, as an environment of its own; the environment itself, where no
// target is named.
func PlaceName(environment, target string) string {
	if target == "" {
		return environment
	}
	return environment + between + target
}

// EnvironmentOf is the environment to which a place belongs: an environment is one itself.
func EnvironmentOf(place string) string {
	environment, _, _ := strings.Cut(place, between)
	return environment
}

// TargetOf is the target of a fleet that a place is; empty for a whole environment.
func TargetOf(place string) string {
	_, target, _ := strings.Cut(place, between)
	return target
}

// Unnamed is a text about a place as it is said of all targets of its environment: that is named instead.
func Unnamed(text, place string) string {
	var b strings.Builder
	for from := 0; place != ""; {
		found := strings.Index(text[from:], place)
		if found < 0 {
			b.WriteString(text[from:])
			return b.String()
		}
		start, end := from+found, from+found+len(place)
		name := EnvironmentOf(place)
		if inName(text, start-1) || inName(text, end) { // it is a part of another one's name
			name = place
		}
		b.WriteString(text[from:start])
		b.WriteString(name)
		from = end
	}
	return text
}

// Alike puts together what is said alike of targets of one fleet, by its numbers from 0 to n, in the order of the first
// of each. A place's own name in what is said of it makes no difference.
func Alike(n int, said func(int) (place, text string)) (groups [][]int) {
	known := map[string]int{}
	for i := range n {
		place, text := said(i)
		key := EnvironmentOf(place) + "\x00" + Unnamed(text, place)
		at, is := known[key]
		if !is {
			at, groups = len(groups), append(groups, nil)
			known[key] = at
		}
		groups[at] = append(groups[at], i)
	}
	return groups
}

// inName reports whether a character may be one of a name.
func inName(text string, i int) bool {
	return i >= 0 && i < len(text) && (text[i] == '-' || text[i] >= '0' && text[i] <= '9' || text[i] >= 'a' && text[i] <= 'z')
}

// Of is one target of a fleet, as an environment of its own that asks what the fleet asks.
func (e Environment) Of(t Target) Environment {
	asks := e.Asks()
	e.Name, e.Target, e.Fleet, e.Gate = PlaceName(e.Name, t.Name), t.Reference, nil, &asks
	return e
}

// Places are what can be deployed to: environments, and the targets of a fleet each.
func (e Environment) Places() []Environment {
	if e.Fleet == nil {
		return []Environment{e}
	}
	list := make([]Environment, len(e.Fleet.Targets))
	for i, t := range e.Fleet.Targets {
		list[i] = e.Of(t)
	}
	return list
}

// Places are those of all environments of a lane, in the order of promotion.
func (l Lane) Places() (list []Environment) {
	for _, e := range l.Environments {
		list = append(list, e.Places()...)
	}
	return list
}

// Place returns an environment, or one target of a fleet as an environment of its own; false if
// there is none with the name.
func (l Lane) Place(name string) (Environment, bool) {
	e, found := l.Environment(EnvironmentOf(name))
	target := TargetOf(name)
	if target == "" || !found {
		return e, found
	}
	if e.Fleet != nil {
		for _, t := range e.Fleet.Targets {
			if t.Name == target {
				return e.Of(t), true
			}
		}
	}
	return Environment{}, false
}

// AllTargets stands for all targets of a fleet, and names none.
const AllTargets = "all"

func isTargetName(name string) bool { return name != AllTargets && targetPattern.MatchString(name) }

var targetPattern = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// part stands between a reference to a list and the name of the target in it.
const part = "#"

// ReferenceOf is a reference to a target that stands in a list.
func ReferenceOf(list, target string) string { return list + part + target }

// PartOf splits a reference to a target that stands in a list into that of the list and the
// target's name.
func PartOf(reference string) (list, target string, is bool) {
	list, target, is = strings.Cut(reference, part)
	return list, target, is && IsReference(list) && isTargetName(target)
}

// ReadTargets reads a list of targets: a line each, a name and what a reference to it stands for,
// with space between. Empty lines and those that begin with # are skipped. Errors name a line and
// never what stands there, which may hold a password.
func ReadTargets(from, text string) (targets []Target, urls map[string]string, err error) {
	urls = map[string]string{}
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		name, url, _ := strings.Cut(line, " ")
		url = strings.TrimSpace(url)
		_, twice := urls[name]
		switch {
		case !isTargetName(name):
			err = fmt.Errorf(
				"line %d does not begin with a target's name, which is lower-case letters, digits and hyphens, and not %s", i+1, AllTargets,
			)
		case url == "" || strings.ContainsAny(url, " \t"):
			err = fmt.Errorf("line %d is not a name and a connection URL, with a space between", i+1)
		case twice:
			err = fmt.Errorf("line %d: %s stands there twice", i+1, name)
		case len(urls) == mostTargets:
			err = fmt.Errorf("it has more than %d targets", mostTargets)
		}
		if err != nil {
			return nil, nil, fmt.Errorf("the list of targets in %s: %w", from, err)
		}
		urls[name] = url
		targets = append(targets, Target{name, ReferenceOf(from, name)})
	}
	if len(targets) == 0 {
		return nil, nil, fmt.Errorf(
			"the list of targets in %s is empty; it has a line each: a name, a space and a connection URL", from,
		)
	}
	return targets, urls, nil
}
