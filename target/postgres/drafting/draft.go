// Package drafting writes the statements that turn one schema of PostgreSQL into
// another. It looks at no server: what it writes, core/draft proves.
package drafting

import (
	"maps"
	"slices"
	"strings"

	"vorrang/core/schema"
)

// Draft writes the script that turns what is into what should be. Both must
// have been read with their needs.
func Draft(is, should schema.Schema, style schema.Style) schema.Script {
	if !style.Owners {
		is, should = is.Without(schema.OwnedByRole, schema.Grants), should.Without(schema.OwnedByRole, schema.Grants)
	}
	is, should = withPlainDefaults(is), withPlainDefaults(should)
	best := draft(is, should, style, false)
	if style.Concurrent && len(best.Parts) > 1 {
		if other := draft(is, should, style, true); len(other.Parts) < len(best.Parts) {
			best = other
		}
	}
	return best
}

// withPlainDefaults lets a default that needs no more than types stand with its
// column.
func withPlainDefaults(s schema.Schema) schema.Schema {
	s.Objects = slices.Clone(s.Objects)
	for i, o := range s.Objects {
		if !slices.ContainsFunc(o.DefaultNeeds, func(key string) bool {
			return !strings.HasPrefix(key, string(schema.Type)+" ") &&
				!strings.HasPrefix(key, string(schema.Extension)+" ") &&
				!strings.HasPrefix(key, string(schema.Namespace)+" ")
		}) {
			s.Objects[i].Needs = append(slices.Clone(o.Needs), o.DefaultNeeds...)
			s.Objects[i].DefaultNeeds = nil
		}
	}
	return s
}

type drafter struct {
	schema.Style
	from, to      schema.Schema
	before, after map[string]schema.Object

	columns  map[string][]schema.Object // to: by table or view, in their order
	had      map[string][]schema.Object // from: likewise
	users    map[string][]string        // from: who needs it
	needed   map[string][]string        // to: likewise
	gone     map[string]bool            // to be dropped, and made again where it should still be
	rebuilt  map[string]bool            // types that are made again while the old one is renamed away
	retyped  map[string]bool            // columns whose type is set again
	reset    map[string]bool            // columns whose default is dropped, and set again where there should be one
	queue    []string                   // while it is chosen: what is gone or retyped, and its users not chosen for
	unable   map[string]string          // what cannot be drafted, and why
	actions  []*action
	dropping map[string]*action
	making   map[string]*action
	altering map[string]*action
}

// action is a run of statements that belong together.
type action struct {
	key        string
	rank       int
	statements []schema.Drafted
	autocommit bool
	needs      map[*action]bool // what must be done before

	// while they are sorted
	done  bool
	waits int
	users []*action
}

func draft(is, should schema.Schema, style schema.Style, autocommitFirst bool) schema.Script {
	d := &drafter{
		Style:    style,
		from:     is,
		to:       should,
		before:   schema.ByKey(is),
		after:    schema.ByKey(should),
		columns:  schema.Columns(should),
		had:      schema.Columns(is),
		users:    usersOf(is),
		needed:   usersOf(should),
		gone:     map[string]bool{},
		rebuilt:  map[string]bool{},
		retyped:  map[string]bool{},
		reset:    map[string]bool{},
		unable:   map[string]string{},
		dropping: map[string]*action{},
		making:   map[string]*action{},
		altering: map[string]*action{},
	}
	d.choose()
	d.write()
	d.order()
	d.writeRows()
	script := schema.Script{Parts: d.sort(autocommitFirst), Reordered: schema.Reordered(is, should)}
	for _, key := range slices.Sorted(maps.Keys(d.unable)) {
		o, known := d.after[key]
		if !known {
			o = d.before[key]
		}
		script.Undraftable = append(
			script.Undraftable,
			schema.Unsupported{Kind: o.Kind, Name: o.Name, Why: d.unable[key]},
		)
	}
	return script
}

// usersOf is who needs what.
func usersOf(s schema.Schema) map[string][]string {
	users := map[string][]string{}
	for _, o := range s.Objects {
		for _, need := range append(slices.Clone(o.Needs), o.DefaultNeeds...) {
			users[need] = append(users[need], o.Key())
		}
	}
	return users
}

// inheritedFrom is the column of a table's parent with a name.
func (d *drafter) inheritedFrom(table schema.Object, column string) schema.Object {
	for _, parent := range schema.List(table.Props[schema.Inherits]) {
		if c, has := d.after[string(schema.Column)+" "+parent+"."+column]; has {
			return c
		}
	}
	return schema.Object{Props: schema.Props{}}
}

// derived are the kinds that hold no rows of their own: they can be dropped and
// made again without loss.
func derived(kind schema.Kind) bool {
	switch kind {
	case schema.Constraint,
		schema.Index, schema.View, schema.Materialized, schema.Function, schema.Trigger, schema.EventTrigger,
		schema.Rule, schema.Policy, schema.Statistics, schema.Publication, schema.Published, schema.PublishedAll,
		schema.DefaultGrant:
		return true
	}
	return false
}

// choose decides what is dropped, what is made again, and what is altered.
func (d *drafter) choose() {
	for _, o := range d.from.Objects {
		d.chooseFor(o)
	}
	heirs := map[string][]string{} // by a parent's column or constraint
	for _, o := range d.from.Objects {
		if o.Props[schema.Inherited] == "yes" {
			for _, parent := range d.stillParents(o.Of) {
				heirs[above(o, parent)] = append(heirs[above(o, parent)], o.Key())
			}
		}
	}
	for len(d.queue) > 0 {
		key := d.queue[0]
		d.queue = d.queue[1:]
		if d.gone[key] {
			for _, heir := range heirs[key] {
				d.lose(heir)
			}
			if whole := d.wholeIndex(d.before[key]); whole != "" {
				d.lose(whole)
			}
		}
		for _, user := range d.users[key] {
			d.chooseUser(key, user)
		}
	}
	for key := range d.retyped {
		d.reset[key] = true
	}
}

// lose has an object dropped, and what depends on it chosen for.
func (d *drafter) lose(key string) {
	if !d.gone[key] {
		d.gone[key] = true
		d.queue = append(d.queue, key)
	}
}

// retype has a column's type set again, and what depends on it chosen for.
func (d *drafter) retype(key string) {
	if !d.retyped[key] {
		d.retyped[key] = true
		d.queue = append(d.queue, key)
	}
}

// chooseFor decides for an object by what it is to be.
func (d *drafter) chooseFor(o schema.Object) {
	key := o.Key()
	now, stays := d.after[key]
	switch {
	case !stays:
		d.lose(key)
	case o.Kind == schema.Column && d.isTableColumn(o):
		retyped := o.Props[schema.DataType] != now.Props[schema.DataType] ||
			o.Props[schema.Collated] != now.Props[schema.Collated]
		switch {
		case now.Props[schema.Generated] != "" && (retyped || o.Props[schema.Generated] != now.Props[schema.Generated]):
			d.lose(key) // it is computed again
		case retyped:
			d.retype(key)
		}
	case !d.alterable(o, now):
		switch {
		case derived(o.Kind):
			d.lose(key)
		case o.Kind == schema.Type && !d.isHeld(key):
			d.lose(key)
		case o.Kind == schema.Type && o.Props[schema.Is] != "range": // a range's functions would be in the way
			d.rebuilt[key] = true
			d.lose(key)
		default:
			d.unable[key] = d.whyNot(o, now)
		}
	}
}

// chooseUser decides for what needs an object that goes or gets another type.
func (d *drafter) chooseUser(key, user string) {
	o := d.before[user]
	now, stays := d.after[user]
	if !stays || d.gone[user] {
		return
	}
	if d.retyped[key] && !d.gone[key] {
		parted := d.before[tableKey(o)].Props[schema.Partitioned] != ""
		switch {
		case parted && (o.Kind == schema.Index || o.Kind == schema.Constraint &&
			!isCheck(o)): // the server would build it again with parts of its own
			d.lose(user)
		case o.Kind == schema.Column && o.Props[schema.Generated] != "":
			d.lose(user)
		case derived(o.Kind) && (o.Kind != schema.Constraint || isForeignKey(o)) && o.Kind != schema.Index &&
			o.Kind != schema.Statistics:
			d.lose(user)
		}
		return
	}
	switch {
	case o.Kind == schema.Column && slices.Contains(o.DefaultNeeds, key) && !slices.Contains(o.Needs, key):
		d.reset[user] = true
	case o.Kind == schema.Column && o.Props[schema.Generated] != "":
		d.lose(user)
	case o.Kind == schema.Column && d.isTableColumn(o):
		if d.rebuilt[key] {
			d.retype(user)
		}
		d.reset[user] = d.reset[user] || slices.Contains(o.DefaultNeeds, key)
	case o.Kind == schema.Type && !slices.Contains(now.Needs, key): // it is altered so that it does not need it any more
	case o.Kind == schema.Type:
		d.rebuilt[user] = true
		d.lose(user)
	case d.replaceable(o, now) && o.Props[schema.Definition] != now.Props[schema.Definition] &&
		!slices.ContainsFunc(now.Needs, func(need string) bool { return nameOf(need) == nameOf(key) }):
	case derived(o.Kind):
		d.lose(user)
	}
}

// nameOf is the name in a key.
func nameOf(key string) string {
	for _, kind := range schema.Kinds {
		if name, is := strings.CutPrefix(key, string(kind)+" "); is {
			return name
		}
	}
	return key
}

// wholeIndex is the index that a partition's index is a part of, as long as its
// table stays a partition: the part cannot be dropped by itself.
func (d *drafter) wholeIndex(o schema.Object) string {
	if o.Props[schema.PartitionOf] == "" || d.wholeGone(o) != "" || len(d.stillParents(o.Of)) == 0 {
		return ""
	}
	for _, need := range o.Needs {
		if d.isIndex(need, o.Props[schema.PartitionOf]) {
			return need
		}
	}
	return ""
}

// isHeld reports whether a type is that of a column or of another type that
// stays.
func (d *drafter) isHeld(key string) bool {
	return slices.ContainsFunc(d.users[key], func(user string) bool {
		kind := d.before[user].Kind
		if _, stays := d.after[user]; !stays {
			return false
		}
		return kind == schema.Column || kind == schema.Table || kind == schema.Type
	})
}

func (d *drafter) isTableColumn(o schema.Object) bool {
	_, isTable := d.before[tableKey(o)]
	return isTable
}
