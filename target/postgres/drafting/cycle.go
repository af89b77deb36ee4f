package drafting

import (
	"fmt"
	"slices"
	"strings"

	"vorrang/core/schema"
)

// cycle names actions that wait for each other, from one that cannot be done.
func (a *action) cycle() string {
	var names []string
	for seen := map[*action]bool{}; a != nil && !seen[a]; {
		seen[a] = true
		names = append(names, a.key)
		var next *action
		for need := range a.needs {
			if !need.done && (next == nil || need.key < next.key) {
				next = need
			}
		}
		a = next
	}
	if a != nil {
		names = append(names, a.key)
	}
	return strings.Join(names, " → ")
}

// breakCycle breaks a cycle of actions that need each other: a foreign key, a rule or
// the like that ties two tables that go is dropped first, and a view in a cycle
// stands for a while as one that reads nothing.
func (d *drafter) breakCycle() bool {
	for _, o := range d.from.Objects {
		table := d.dropOf(o.Key())
		if !isTie(o) || table == nil || table.done || d.dropping[o.Key()] != nil {
			continue
		}
		for _, need := range o.Needs {
			other := d.dropOf(need)
			if other == nil || other == table || !other.needs[table] || !table.waitsFor(other, map[*action]bool{}) {
				continue
			}
			ties, can := d.ties(table, other)
			if !can {
				continue
			}
			delete(other.needs, table)
			for _, tie := range ties {
				a := d.add(d.dropping, tie.Key(), clearing, plain(drop(tie)))
				before(a, table)
				before(a, other)
			}
			return true
		}
	}
	for _, o := range d.to.Objects {
		if a := d.making[o.Key()]; o.Kind == schema.View && a != nil && !a.done && d.making["stub "+o.Key()] == nil {
			stub := d.add(
				d.making,
				"stub "+o.Key(),
				a.rank,
				plain(fmt.Sprintf("CREATE VIEW %s AS\n%s", o.Name, d.empty(d.columns[o.Name]))),
			)
			a.statements[0].SQL = strings.Replace(a.statements[0].SQL, "CREATE VIEW", "CREATE OR REPLACE VIEW", 1)
			for _, c := range d.columns[o.Name] {
				for _, need := range c.Needs {
					before(d.making[need], stub)
				}
			}
			for need := range a.needs {
				if strings.HasPrefix(need.key, string(schema.Namespace)+" ") || need == d.dropping[o.Key()] {
					before(need, stub)
				}
			}
			for _, other := range d.actions {
				if other.needs[a] {
					delete(other.needs, a)
					before(stub, other)
				}
			}
			before(stub, a)
			return true
		}
	}
	for _, o := range d.from.Objects {
		if a := d.dropping[o.Key()]; o.Kind == schema.View && a != nil && !a.done &&
			d.dropping["stub "+o.Key()] == nil {
			stub := d.add(
				d.dropping,
				"stub "+o.Key(),
				a.rank,
				plain(fmt.Sprintf("CREATE OR REPLACE VIEW %s AS\n%s", o.Name, d.empty(d.had[o.Name]))),
			)
			for _, other := range d.actions {
				if other != stub && other.needs[a] {
					delete(other.needs, a)
					before(stub, other)
				}
			}
			before(stub, a)
			return true
		}
	}
	return false
}

// isTie reports whether an object can be dropped by itself before its table.
func isTie(o schema.Object) bool {
	return o.Kind == schema.Rule || o.Kind == schema.Policy || o.Kind == schema.Trigger || isForeignKey(o)
}

// ties are what ties one action to another that must come after it; it can be
// broken if nothing else does.
func (d *drafter) ties(table, other *action) (ties []schema.Object, can bool) {
	for _, o := range d.from.Objects {
		if d.dropOf(o.Key()) != table ||
			!slices.ContainsFunc(o.Needs, func(need string) bool { return d.dropOf(need) == other }) {
			continue
		}
		if !isTie(o) {
			return nil, false
		}
		ties = append(ties, o)
	}
	return ties, true
}

// empty is a query that gives columns and no rows.
func (d *drafter) empty(columns []schema.Object) string {
	var names []string
	for _, c := range columns {
		names = append(
			names,
			fmt.Sprintf(
				"    NULL::%s%s AS %s", c.Props[schema.DataType],
				with(" COLLATE ", c.Props[schema.Collated]),
				c.Local(),
			),
		)
	}
	return "SELECT\n" + strings.Join(names, ",\n")
}
