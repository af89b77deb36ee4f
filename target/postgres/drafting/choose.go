package drafting

import (
	"slices"
	"strings"

	"vorrang/core/schema"
)

// differing are the properties in which two objects differ.
func differing(a, b schema.Object) []schema.Property {
	var names []schema.Property
	for _, c := range schema.Changes(a.Props, b.Props) {
		names = append(names, c.Name)
	}
	return names
}

// alterable reports whether an object can be turned into another of the same
// name where it stands.
func (d *drafter) alterable(is, should schema.Object) bool {
	plain := slices.Clone(attributeNames)
	switch is.Kind {
	case schema.Extension:
		plain = append(plain, "version", "schema")
	case schema.Type:
		switch {
		case is.Props[schema.Is] != should.Props[schema.Is]:
		case is.Props[schema.Is] == "enum":
			was, now := schema.List(is.Props[schema.Labels]), schema.List(should.Props[schema.Labels])
			if subsequence(was, now) && (d.Concurrent || !d.usesNewLabel(should, was, now)) {
				plain = append(plain, "labels")
			}
		case is.Props[schema.Is] == "composite":
			if _, can := d.reshape(is, should); can {
				plain = append(plain, "attributes")
			}
		case is.Props[schema.Is] == "domain":
			plain = append(plain, "default", "null")
		}
	case schema.Server, schema.Wrapper:
		plain = append(plain, "foreign options", "version", "handler", "validator")
	case schema.Sequence:
		plain = append(plain, "sequence", "owned by", "identity of", "unlogged")
	case schema.Table:
		plain = append(
			plain, "options", "toast options", "inherits", "partition", "unlogged", "tablespace", "access method",
			"foreign options", "of type",
		)
	case schema.Column: // of a view
		return true
	case schema.Constraint:
		if is.Props[schema.Definition] == should.Props[schema.Definition]+" NOT VALID" {
			plain = append(plain, "definition")
		}
		plain = append(plain, "options", "tablespace")
		if is.Props[schema.PartitionOf] == "" {
			plain = append(plain, "partition of")
		}
		if is.Props[schema.Domain] == "" {
			plain = append(plain, "inherited")
		}
	case schema.Index:
		plain = append(plain, "tablespace")
		if is.Props[schema.PartitionOf] == "" {
			plain = append(plain, "partition of")
		}
	case schema.View, schema.Function:
		if d.replaceable(is, should) {
			plain = append(plain, "definition", "options")
		}
	case schema.Materialized:
		plain = append(plain, "options", "tablespace", "populated")
	case schema.Publication:
		plain = append(plain, "publishes", "via root")
	case schema.DefaultGrant:
		plain = append(plain, "grants")
	}
	for _, name := range differing(is, should) {
		if !slices.Contains(plain, name) {
			return false
		}
	}
	return true
}

// replaceable reports whether CREATE OR REPLACE can turn a view or a function
// into another: a view keeps its columns and may get more, a function keeps its
// parameters and its result.
func (d *drafter) replaceable(is, should schema.Object) bool {
	switch is.Kind {
	case schema.View:
		old, now := d.had[is.Name], d.columns[should.Name]
		if len(old) > len(now) {
			return false
		}
		for i, c := range old {
			if c.Name != now[i].Name || c.Props[schema.DataType] != now[i].Props[schema.DataType] ||
				c.Props[schema.Collated] != now[i].Props[schema.Collated] {
				return false
			}
		}
		return true
	case schema.Function:
		head := func(o schema.Object) string {
			text, _, _ := strings.Cut(o.Props[schema.Definition], "\n LANGUAGE ")
			return text
		}
		return word(is) == word(should) && word(is) != "AGGREGATE" && head(is) == head(should)
	}
	return false
}

// usesNewLabel reports whether something is to use a label that an enum does
// not have yet: that takes a commit in between.
func (d *drafter) usesNewLabel(enum schema.Object, was, now []string) bool {
	for _, user := range d.needed[enum.Key()] {
		for _, text := range d.after[user].Props {
			for _, label := range now {
				if !slices.Contains(was, label) && strings.Contains(text, label) {
					return true
				}
			}
		}
	}
	return false
}

func (d *drafter) whyNot(is, should schema.Object) string {
	var fixed []string
	for _, name := range differing(is, should) {
		if !slices.Contains(attributeNames, name) {
			fixed = append(fixed, string(name))
		}
	}
	return "its " + strings.Join(fixed, ", ") +
		" cannot be changed where it stands, and what hangs on it would be lost if it were made again"
}

func subsequence(part, whole []string) bool {
	i := 0
	for _, one := range whole {
		if i < len(part) && part[i] == one {
			i++
		}
	}
	return i == len(part)
}
