package drafting

import (
	"cmp"
	"container/heap"
	"slices"
	"strings"

	"vorrang/core/schema"
)

// dropOf is the action that drops an object, or what it goes with.
func (d *drafter) dropOf(key string) *action {
	for range 8 {
		if a := d.dropping[key]; a != nil {
			return a
		}
		o, known := d.before[key]
		if !known || !d.gone[key] {
			return nil
		}
		next := d.goesWith(o)
		if rest, is := strings.CutPrefix(next, "alter "); is {
			return d.altering[rest]
		}
		key = next
	}
	return nil
}

// makeOf is the action after which an object is there as it should be: made, or
// with what it comes with, or altered.
func (d *drafter) makeOf(key string) *action {
	for range 8 {
		if a := d.making[key]; a != nil {
			return a
		}
		o, known := d.after[key]
		if !known {
			return nil
		}
		switch {
		case o.Kind == schema.Column && d.made(o.Of):
			key = tableKey(o)
		case o.Props[schema.Inherited] == "yes" && d.inheritsMade(o):
			parents := schema.List(d.after[tableKey(o)].Props[schema.Inherits])
			key = above(
				o,
				parents[slices.IndexFunc(parents, func(parent string) bool { return d.after[above(o, parent)].Name != "" })],
			)
		case o.Kind == schema.Column:
			for _, kind := range []schema.Kind{schema.View, schema.Materialized} {
				if a := d.making[schema.KeyOf(kind, o.Of)]; a != nil {
					return a
				}
			}
			return nil
		case o.Kind == schema.Sequence && o.Props[schema.IdentityOf] != "":
			if a := d.altering[column(o.Props[schema.IdentityOf])]; a != nil {
				return a
			}
			key = column(o.Props[schema.IdentityOf])
		default:
			return nil
		}
	}
	return nil
}

func before(first, then *action) {
	if first != nil && then != nil && first != then {
		then.needs[first] = true
	}
}

// order says which action needs which.
func (d *drafter) order() {
	for _, o := range d.from.Objects {
		d.orderWas(o)
	}
	for _, o := range d.to.Objects {
		d.orderIs(o)
		switch o.Kind {
		case schema.Column:
			d.orderColumn(o)
		case schema.Sequence:
			link := d.making["owned "+o.Name]
			before(d.making[o.Key()], link)
			before(d.makeOf(column(o.Props[schema.OwnedBy])), link)
		case schema.Table:
			d.orderPartition(o)
			d.orderInheriting(o)
		case schema.Constraint, schema.Index:
			d.orderParts(o)
		}
	}
}

// orderWas puts what was there into an order: what needs it goes before it.
func (d *drafter) orderWas(o schema.Object) {
	key := o.Key()
	drop, alter := d.dropOf(key), d.altering[key]
	for _, need := range o.Needs {
		if d.gone[key] {
			before(drop, d.dropOf(need))
			if kind := d.before[need].Kind; kind != schema.Namespace && kind != schema.Extension &&
				(o.Props[schema.Inherited] == "" || need != tableKey(o)) {
				before(drop, d.altering[need])
			}
			if d.rebuilt[need] && drop != d.dropping[need] {
				before(drop, d.making[need])
			}
		} else {
			before(alter, d.dropOf(need))
		}
	}
	for _, need := range o.DefaultNeeds {
		first := cmp.Or(d.dropping["default "+o.Name], d.making["default "+o.Name], alter)
		if d.gone[key] {
			first = drop
		}
		before(first, d.dropOf(need))
	}
	before(d.dropping["default "+o.Name], alter)
	if o.Props[schema.Inherited] != "" && d.gone[key] { // it is the table's own once that inherits no more
		before(d.altering[tableKey(o)], drop)
	}
	if o.Kind == schema.Sequence { // freed before what owned it goes
		before(d.making["owned "+o.Name], d.dropOf(column(cmp.Or(o.Props[schema.OwnedBy], " "))))
	}
	if d.rebuilt[key] {
		before(d.making[key], drop)
	} else if d.gone[key] && !d.rebuilt[schema.KeyOf(schema.Type, o.Of)] {
		before(drop, d.makeOf(key))
		before(drop, d.making["unvalidated "+key])
		d.freeName(o, drop)
	}
}

// orderIs puts what will be there into an order: what it needs comes before it.
func (d *drafter) orderIs(o schema.Object) {
	key := o.Key()
	for _, a := range []*action{d.makeOf(key), d.altering[key], d.making["unvalidated "+key]} {
		for _, need := range o.Needs {
			if a == d.making["unvalidated "+key] || a != d.makeOf(need) {
				before(d.makeOf(need), a)
			}
			if need != tableKey(o) || o.Props[schema.Inherited] == "" {
				before(d.altering[need], a)
			}
		}
	}
	if o.Props[schema.Inherited] != "" && !d.made(o.Of) { // it must be there before its table inherits
		before(d.making[key], d.altering[tableKey(o)])
		before(d.altering[key], d.altering[tableKey(o)])
	}
	if link := d.making["default "+o.Name]; link != nil && o.Kind == schema.Column {
		before(d.makeOf(key), link)
		before(d.altering[key], link)
		before(d.dropping["default "+o.Name], link)
		for _, need := range o.DefaultNeeds {
			before(d.makeOf(need), link)
		}
	}
}

// orderColumn puts a column after the view that has it, and after its parents' columns.
func (d *drafter) orderColumn(o schema.Object) {
	key := o.Key()
	for _, kind := range []schema.Kind{schema.View, schema.Materialized} {
		before(d.making[schema.KeyOf(kind, o.Of)], d.making[key])
		before(d.altering[schema.KeyOf(kind, o.Of)], d.altering[key])
		before(d.altering[schema.KeyOf(kind, o.Of)], d.making[key])
	}
	if o.Props[schema.Inherited] != "" {
		for _, parent := range d.stillParents(o.Of) {
			before(d.makeOf(above(o, parent)), d.altering[key])
			above := d.altering[column(parent+"."+o.Local())]
			before(d.dropping["default "+o.Name], above)
			before(above, d.altering[key])
			before(above, d.making["default "+o.Name])
		}
	}
}

// orderInheriting puts the making of a table that inherits after its parents' columns
// are as they will be.
func (d *drafter) orderInheriting(o schema.Object) {
	if made := d.making[o.Key()]; made != nil &&
		o.Props[schema.Partition] == "" { // it inherits what its parents are then
		for _, parent := range schema.List(o.Props[schema.Inherits]) {
			for _, c := range d.columns[parent] {
				before(d.making[c.Key()], made)
				before(d.altering[c.Key()], made)
				before(d.making["default "+c.Name], made)
			}
			for _, c := range d.had[parent] {
				before(d.dropping[c.Key()], made)
				before(d.dropping["default "+c.Name], made)
			}
		}
	}
}

// orderParts puts the validation of a constraint, and the attachment of an index's part,
// after what they need.
func (d *drafter) orderParts(o schema.Object) {
	key := o.Key()
	before(d.makeOf(key), d.making["validated "+key])
	before(d.makeOf(tableKey(o)), d.making["validated "+key])
	link := d.making["part "+key]
	before(d.makeOf(key), link)
	for _, need := range o.Needs {
		before(d.makeOf(need), link)
	}
	before(d.making["attached "+o.Of], link)
	d.beforeUsers(o, link)
}

// beforeUsers puts the attachment of an index's part before what needs the
// whole index, such as a foreign key: it is valid only once it has all its parts.
func (d *drafter) beforeUsers(part schema.Object, link *action) {
	if link == nil {
		return
	}
	for _, need := range part.Needs {
		if !d.isIndex(need, part.Props[schema.PartitionOf]) {
			continue
		}
		for _, user := range d.needed[need] {
			if o := d.after[user]; o.Props[schema.PartitionOf] == "" {
				before(link, d.makeOf(user))
				before(link, d.making["unvalidated "+user])
			}
		}
	}
}

// orderPartition puts a partition's attachment after its making, and before
// what its parent gets for all partitions.
func (d *drafter) orderPartition(o schema.Object) {
	link := d.making["attached "+o.Name]
	if link == nil {
		return
	}
	parent := o.Props[schema.Inherits]
	for _, other := range d.from.Objects {
		if other.Of == parent && (other.Kind == schema.Column || other.Kind == schema.Constraint) &&
			d.gone[other.Key()] {
			before(d.dropping[other.Key()], link)
		}
	}
	before(d.makeOf(o.Key()), link)
	before(d.altering[o.Key()], link)
	before(d.makeOf(schema.KeyOf(schema.Table, parent)), link)
	for _, other := range d.to.Objects {
		if other.Of == parent && other.Kind == schema.Column {
			before(d.making[other.Key()], link)
			before(d.altering[other.Key()], link)
		}
		if other.Of == parent &&
			(other.Kind == schema.Constraint || other.Kind == schema.Index || other.Kind == schema.Trigger) {
			before(link, d.making[other.Key()])
			before(link, d.making["unvalidated "+other.Key()])
		}
		isPart := other.Props[schema.PartitionOf] != "" && d.making["part "+other.Key()] == nil ||
			other.Props[schema.Inherited] == "yes"
		if other.Of == o.Name && (other.Kind == schema.Constraint || other.Kind == schema.Index) && isPart {
			before(d.making[other.Key()], link)
		}
	}
}

// freeName lets a name be dropped before another kind of object takes it.
func (d *drafter) freeName(o schema.Object, drop *action) {
	for _, kind := range []schema.Kind{schema.Table, schema.View, schema.Materialized, schema.Sequence, schema.Type,
		schema.Index} {
		if kind != o.Kind {
			before(drop, d.making[schema.KeyOf(kind, o.Name)])
		}
	}
}

// sort puts the actions into an order that works, with as few changes between
// transactions and autocommit as it takes.
func (d *drafter) sort(autocommit bool) []schema.Part {
	var parts []schema.Part
	ready := d.line()
	for {
		part := schema.Part{Autocommit: autocommit}
		functions := false
		for ready[autocommit].Len() > 0 {
			a := heap.Pop(ready[autocommit]).(*action)
			a.done = true
			part.Statements = append(part.Statements, a.statements...)
			kind, _, _ := strings.Cut(a.key, " ")
			functions = functions || kind == string(schema.Function)
			for _, user := range a.users {
				if user.waits--; user.waits == 0 {
					heap.Push(ready[user.autocommit], user)
				}
			}
		}
		if functions {
			part.Statements = append(plain("SET check_function_bodies = off"), part.Statements...)
		}
		if len(part.Statements) > 0 {
			parts = append(parts, part)
		}
		autocommit = !autocommit
		if ready[autocommit].Len() > 0 {
			continue
		}
		if !slices.ContainsFunc(d.actions, func(a *action) bool { return !a.done }) {
			return parts
		}
		if !d.breakCycle() {
			for _, a := range d.actions {
				if !a.done {
					d.unable[a.key] = "it is part of a cycle of objects that need each other: " + a.cycle()
				}
			}
			return parts
		}
		ready = d.line()
		autocommit = !autocommit
	}
}

// line counts what each action waits for, and lines up those that wait for none.
func (d *drafter) line() map[bool]*queue {
	ready := map[bool]*queue{false: {}, true: {}}
	for _, a := range d.actions {
		a.waits, a.users = 0, nil
	}
	for _, a := range d.actions {
		for need := range a.needs {
			if !need.done {
				a.waits++
				need.users = append(need.users, a)
			}
		}
		if a.waits == 0 && !a.done {
			heap.Push(ready[a.autocommit], a)
		}
	}
	return ready
}

// queue holds actions that can be done, the first by rank and key ahead.
type queue []*action

func (q queue) Len() int { return len(q) }
func (q queue) Less(i, j int) bool {
	return cmp.Or(cmp.Compare(q[i].rank, q[j].rank), strings.Compare(q[i].key, q[j].key)) < 0
}
func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(a any)   { *q = append(*q, a.(*action)) }
func (q *queue) Pop() any {
	last := (*q)[len(*q)-1]
	*q = (*q)[:len(*q)-1]
	return last
}

// waitsFor reports whether an action cannot be done before another.
func (a *action) waitsFor(other *action, seen map[*action]bool) bool {
	for need := range a.needs {
		if need == other || !need.done && !seen[need] {
			seen[need] = true
			if need == other || need.waitsFor(other, seen) {
				return true
			}
		}
	}
	return false
}
