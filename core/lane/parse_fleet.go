package lane

import (
	"go.yaml.in/yaml/v4"
)

// targets reads the targets of a fleet: a list of names with references, or one reference to such
// a list.
func (r *reader) targets(node *yaml.Node) (targets []Target, from string) {
	const form = "targets is a list of names with references, as in - north: env:VORRANG_TARGET_NORTH, or one reference " +
		"to a list of them"
	if node.Kind == yaml.ScalarNode {
		return nil, r.target(node)
	}
	if node.Kind != yaml.SequenceNode || len(node.Content) == 0 {
		r.report(node, "%s", form)
		return nil, ""
	}
	if len(node.Content) > mostTargets {
		r.report(node, "a fleet has %d targets at most", mostTargets)
	}
	seen := map[string]bool{}
	for _, item := range node.Content {
		if item.Kind != yaml.MappingNode || len(item.Content) != 2 {
			r.report(item, "%s", form)
			continue
		}
		name := item.Content[0]
		if !isTargetName(name.Value) {
			r.report(name, "%q is not a valid name; a target's name is lower-case letters, digits and hyphens, and not %s",
				name.Value, AllTargets)
		}
		if seen[name.Value] {
			r.report(name, "there are two targets %q", name.Value)
		}
		seen[name.Value] = true
		targets = append(targets, Target{Name: name.Value, Reference: r.target(item.Content[1])})
	}
	return targets, ""
}

// waves reads in which waves a deployment goes through a fleet. What it does not say is as usual.
func (r *reader) waves(node *yaml.Node) Waves {
	w := usualWaves
	r.fields(node, "canary, size, at-once, tolerate", func(key string, value *yaml.Node) bool {
		switch key {
		case "canary":
			r.number(value, key, &w.Canary, 0, mostTargets)
		case "size":
			r.number(value, key, &w.Size, 1, mostTargets)
		case "at-once":
			r.number(value, key, &w.AtOnce, 1, mostAtOnce)
		case "tolerate":
			r.number(value, key, &w.Tolerate, 0, mostTargets)
		default:
			return false
		}
		return true
	})
	return w
}

func (r *reader) number(node *yaml.Node, key string, to *int, least, most int) {
	if err := node.Decode(to); err != nil || *to < least || *to > most {
		r.report(node, "%s is a number from %d to %d, not %q", key, least, most, node.Value)
	}
}
