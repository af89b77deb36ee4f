package lane

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"vorrang/core/engine"
	"vorrang/core/plan"
	"vorrang/core/step"
)

// Parse reads a lane file. The name is used in errors only; engines are those that
// the service has, by name, and nil where that is not known. The error is
// step.Problems, and holds everything that is wrong.
func Parse(name string, text []byte, engines map[string]engine.Traits) (Lane, error) {
	r := reader{file: name, engines: engines}
	var document yaml.Node
	if err := yaml.Unmarshal(text, &document); err != nil {
		line, message := step.YAMLError(err)
		return Lane{}, step.Problems{{File: name, Line: line, Column: 1, Message: "is not valid YAML: " + message}}
	}
	if len(document.Content) == 0 {
		return Lane{}, step.Problems{{File: name, Message: "is empty; a lane file begins with  lane: NAME"}}
	}
	lane := r.lane(document.Content[0])
	if len(r.problems) > 0 {
		return Lane{}, r.problems
	}
	return lane, nil
}

type reader struct {
	file     string
	engines  map[string]engine.Traits // nil where they are not known
	kind     string                   // the lane's engine
	problems step.Problems
}

// usualEngine is the one of a lane that names none.
const usualEngine = "postgresql"

// engine reads which engine a lane has. It comes first: what may be in the rest
// depends on it.
func (r *reader) engine(node *yaml.Node) (name string) {
	name = usualEngine
	for i := 0; i+1 < len(node.Content); i += 2 {
		if node.Content[i].Value != "engine" {
			continue
		}
		value := node.Content[i+1]
		name = r.text(value)
		if _, known := r.engines[name]; !known && r.engines != nil {
			r.report(
				value,
				"the engine %q is not known; it can be %s",
				name,
				strings.Join(slices.Sorted(maps.Keys(r.engines)), ", "),
			)
		}
	}
	return name
}

// needs names the keys that need what not every engine has.
func needs(key string, has engine.Traits) bool {
	switch key {
	case "role", "steps-may":
		return has.Roles
	case "schemas":
		return has.Schemas
	case "ledger-role", "ledger-key":
		return has.LedgerOwner
	case "block-at-most":
		return has.Yields
	case "scratch", "rehearse":
		return has.Scratch
	case "rehearse-on":
		return has.Clones
	case "mask":
		return has.Samples
	}
	return true
}

func (r *reader) report(at *yaml.Node, format string, args ...any) {
	r.problems = append(r.problems, step.Problem{
		File: r.file, Line: at.Line, Column: at.Column, Message: fmt.Sprintf(format, args...)})
}

// fields calls set for each key of a mapping; set returns false for a key that
// it does not know.
func (r *reader) fields(node *yaml.Node, known string, set func(key string, value *yaml.Node) bool) {
	if node.Kind != yaml.MappingNode {
		r.report(node, "lines of the form key: value are expected here; the keys are %s", known)
		return
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(node.Content); i += 2 {
		key, value := node.Content[i], node.Content[i+1]
		if seen[key.Value] {
			r.report(key, "%q stands here twice", key.Value)
		}
		seen[key.Value] = true
		if has, known := r.engines[r.kind]; known && !needs(key.Value, has) {
			r.report(key, "%s has no use for %s: take it out", has.Server, key.Value)
		}
		if !set(key.Value, value) {
			r.report(key, "there is no key %q here; the keys are %s", key.Value, known)
		}
	}
}

func (r *reader) lane(node *yaml.Node) Lane {
	r.kind = r.engine(node)
	lane := Lane{Engine: r.kind}
	r.fields(node, "lane, about, engine, on-failure, steps-may, environments", func(key string, value *yaml.Node) bool {
		switch key {
		case "lane":
			lane.Name = r.name(value, "a lane's name")
		case "about":
			lane.About = r.text(value)
		case "engine": // was read
		case "on-failure":
			lane.OnFailure = r.policy(value)
		case "steps-may":
			lane.StepsMay = r.special(value)
		case "environments":
			lane.Environments = r.environments(value)
		default:
			return false
		}
		return true
	})
	if node.Kind == yaml.MappingNode && lane.Name == "" && len(r.problems) == 0 {
		r.report(node, "the lane has no name; begin with  lane: NAME")
	}
	if len(lane.Environments) == 0 && len(r.problems) == 0 {
		r.report(node, "the lane has no environments; list at least one, with name and target")
	}
	return lane
}

func (r *reader) special(node *yaml.Node) (may []string) {
	err := node.Decode(&may)
	if err != nil || slices.ContainsFunc(may, func(one string) bool { return !slices.Contains(step.Special, one) }) {
		r.report(
			node,
			"steps-may is a list of what steps may change beside schemas and rows; it can name %s",
			strings.Join(step.Special, ", "),
		)
	}
	slices.Sort(may)
	return slices.Compact(may)
}

func (r *reader) environments(node *yaml.Node) []Environment {
	if node.Kind != yaml.SequenceNode {
		r.report(node, "environments is a list, in the order of promotion: - name: development")
		return nil
	}
	var list []Environment
	for _, item := range node.Content {
		e := r.environment(item)
		if slices.ContainsFunc(list, func(o Environment) bool { return e.Name != "" && o.Name == e.Name }) {
			r.report(item, "there are two environments %q", e.Name)
		}
		list = append(list, e)
	}
	return list
}

// shortestLook is how often a look for drift may be asked for.
const shortestLook = time.Minute

func (r *reader) environment(node *yaml.Node) Environment {
	var e Environment
	var section, waves *yaml.Node // read last: what is usual depends on the name
	fleet := Fleet{Waves: usualWaves}
	before := len(r.problems)
	r.fields(
		node,
		"name, target, targets, waves, disposable, scratch, rehearse-on, rehearse, mask, role, ledger-role, ledger-key, schemas, "+
			"on-failure, lock-timeout, statement-timeout, block-at-most, look-for-drift, gate",
		func(key string, value *yaml.Node) bool {
			switch key {
			case "name":
				e.Name = r.name(value, "an environment's name")
			case "target":
				e.Target = r.target(value)
			case "targets":
				fleet.Targets, fleet.From = r.targets(value)
				e.Fleet = &fleet
			case "waves":
				fleet.Waves = r.waves(value)
				waves = value
			case "disposable":
				if err := value.Decode(&e.Disposable); err != nil {
					r.report(value, "disposable is true or false, not %q", value.Value)
				}
			case "scratch":
				e.Scratch = r.target(value)
			case "rehearse-on":
				e.RehearseOn = r.target(value)
			case "rehearse":
				if e.Rehearse = value.Value == whenCut; !e.Rehearse {
					r.report(value, "rehearse is %s, or left out, not %q", whenCut, value.Value)
				}
			case "mask":
				e.Mask = r.columns(value)
			case "role":
				e.Role = r.text(value)
			case "ledger-role":
				if e.LedgerRole = r.text(value); !rolePattern.MatchString(e.LedgerRole) {
					r.report(
						value,
						"%q is not a valid name for the ledger's owner, which is lower-case letters, digits and _, and begins with a letter",
						value.Value,
					)
				}
			case "ledger-key":
				e.LedgerKey = r.target(value)
			case "schemas":
				if err := value.Decode(&e.Schemas); err != nil || len(e.Schemas) == 0 {
					r.report(value, "schemas is a list of names, as in schemas: [harbour, tide]")
				}
			case "on-failure":
				e.OnFailure = r.policy(value)
			case "block-at-most":
				if e.BlockAtMost = *r.duration(value, key); e.BlockAtMost < step.ShortestBlock && e.BlockAtMost != 0 {
					r.report(value, "block-at-most is %s or longer", step.ShortestBlock)
				}
			case "lock-timeout":
				e.LockTimeout = r.duration(value, key)
			case "statement-timeout":
				e.StatementTimeout = r.duration(value, key)
			case "look-for-drift":
				if value.Value == "off" {
					break
				}
				if e.LookForDrift = *r.duration(value, key); e.LookForDrift < shortestLook &&
					len(r.problems) == before {
					r.report(value, "look-for-drift is off, or %s or more, not %q", Span(shortestLook), value.Value)
				}
			case "gate":
				section = value
			default:
				return false
			}
			return true
		},
	)
	if section != nil {
		e.Gate = r.gate(section, e.Name)
	}
	if len(r.problems) == before && (e.LedgerRole == "") != (e.LedgerKey == "") {
		r.report(
			node,
			"ledger-role and ledger-key go together: who owns the ledger, and the key with which entries are proved to it",
		)
	}
	if len(r.problems) == before && e.RehearseOn != "" && e.RehearseOn == e.Target {
		r.report(node, "rehearse-on and target are the same: a clone is another database, with what the target held")
	}
	if len(r.problems) == before && e.LedgerRole != "" && e.LedgerRole == e.Role {
		r.report(node, "ledger-role and role are the same, so that steps could write to the ledger")
	}
	switch {
	case len(r.problems) != before:
	case e.Name == "" || e.Target == "" && e.Fleet == nil:
		r.report(node, "an environment needs a name and a target, or targets")
	case e.Target != "" && e.Fleet != nil:
		r.report(node, "target and targets exclude each other: an environment has one target, or a fleet of them")
	case waves != nil && e.Fleet == nil:
		r.report(waves, "waves are for an environment that has targets; this one has a single target")
	}
	return e
}

// whenCut says that a release is rehearsed as soon as it is cut.
const whenCut = "on-cut"

// columns is a list of columns with their tables.
func (r *reader) columns(node *yaml.Node) (list []string) {
	if err := node.Decode(&list); err != nil || len(list) == 0 {
		r.report(node, "mask is a list of columns, as in mask: [harbour.pilot.name]")
		return nil
	}
	for i, column := range list {
		if !strings.Contains(column, ".") {
			r.report(node.Content[i], "%q names no column: its table, with the schema, stands before it, as in "+
				"harbour.pilot.name", column)
		}
	}
	return list
}

func (r *reader) name(node *yaml.Node, what string) string {
	if node.Kind != yaml.ScalarNode || !namePattern.MatchString(node.Value) {
		r.report(
			node,
			"%q is not a valid name; %s is lower-case letters, digits and hyphens, and begins with a letter",
			node.Value, what,
		)
	}
	return node.Value
}

func (r *reader) policy(node *yaml.Node) plan.Policy {
	policy := plan.Policy(node.Value)
	if policy != plan.Stop && policy != plan.BackOut {
		r.report(node, "on-failure is stop or back-out, not %q", node.Value)
	}
	return policy
}

func (r *reader) text(node *yaml.Node) string {
	if node.Kind != yaml.ScalarNode {
		r.report(node, "a text is expected here")
	}
	return strings.TrimSpace(node.Value)
}

func (r *reader) target(node *yaml.Node) string {
	if err := checkTarget(node.Value); err != nil {
		r.report(node, "%s", err.Error())
		return ""
	}
	return node.Value
}

func (r *reader) duration(node *yaml.Node, key string) *time.Duration {
	d, err := step.ParseDuration(node.Value)
	if err != nil {
		r.report(node, "%s: %s", key, err.Error())
	}
	return &d
}
