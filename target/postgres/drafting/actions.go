package drafting

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"vorrang/core/schema"
)

// Ranks order actions that do not need each other: what is in the way goes first,
// then everything is made and altered, and what holds rows goes last.
const (
	clearing = 0
	building = 1000
	removing = 2000
)

func plain(statements ...string) []schema.Drafted {
	drafted := make([]schema.Drafted, len(statements))
	for i, sql := range statements {
		drafted[i] = schema.Drafted{SQL: sql}
	}
	return drafted
}

func (d *drafter) add(into map[string]*action, key string, rank int, statements []schema.Drafted) *action {
	a := &action{key: key, rank: rank, statements: statements, needs: map[*action]bool{}}
	d.actions = append(d.actions, a)
	into[key] = a
	return a
}

// write makes the actions.
func (d *drafter) write() {
	for _, o := range d.from.Objects {
		if d.gone[o.Key()] {
			d.writeDrop(o)
		} else if d.reset[o.Key()] && o.Props[schema.Default] != "" {
			d.add(d.dropping, "default "+o.Name, clearing, plain(fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s "+
				"DROP DEFAULT", o.Of, o.Local())))
		}
	}
	for _, o := range d.to.Objects {
		was, known := d.before[o.Key()]
		made := !known || d.gone[o.Key()] ||
			o.Kind == schema.Column &&
				(d.gone[schema.KeyOf(schema.View, o.Of)] || d.gone[schema.KeyOf(schema.Materialized, o.Of)])
		if made {
			d.writeMake(o)
		} else if _, unable := d.unable[o.Key()]; !unable {
			d.writeAlter(was, o)
		}
		d.writeLinks(was, o, made)
	}
}

// wholeGone is what an object goes with: the table, view, domain or publication
// that it belongs to, if that is dropped.
func (d *drafter) wholeGone(o schema.Object) string {
	if o.Of == "" {
		return ""
	}
	for _, kind := range []schema.Kind{schema.Table, schema.View, schema.Materialized, schema.Type, schema.Publication} {
		if key := schema.KeyOf(kind, o.Of); d.gone[key] {
			return key
		}
	}
	return ""
}

func column(name string) string { return schema.KeyOf(schema.Column, name) }

// goesWith is what takes an object along when it is dropped, or empty.
func (d *drafter) goesWith(o schema.Object) string {
	if whole := d.wholeGone(o); whole != "" {
		return whole
	}
	switch o.Kind {
	case schema.Table:
		if parent := schema.KeyOf(schema.Table, o.Props[schema.Inherits]); o.Props[schema.Partition] != "" &&
			d.gone[parent] {
			return parent
		}
	case schema.Column:
		return d.goneAbove(o)
	case schema.Sequence:
		if of := cmp.Or(o.Props[schema.OwnedBy], o.Props[schema.IdentityOf]); of != "" {
			if d.gone[column(of)] {
				return column(of)
			}
			if o.Props[schema.IdentityOf] != "" {
				return "alter " + column(of)
			}
		}
	case schema.Index, schema.Constraint:
		if above := d.goneAbove(o); above != "" {
			return above
		}
		for _, need := range o.Needs {
			if o.Props[schema.PartitionOf] != "" && d.gone[need] && d.isIndex(need, o.Props[schema.PartitionOf]) {
				return need
			}
		}
	}
	return ""
}

// goneAbove is the parent's column or constraint that takes an inherited one
// along when it is dropped, or empty.
func (d *drafter) goneAbove(o schema.Object) string {
	if o.Props[schema.Inherited] == "yes" {
		for _, parent := range d.stillParents(o.Of) {
			if key := above(o, parent); d.gone[key] {
				return key
			}
		}
	}
	return ""
}

// above is the key of a parent's column or constraint of the same name.
func above(o schema.Object, parent string) string { return schema.KeyOf(o.Kind, parent+"."+o.Local()) }

// isIndex reports whether a key is that of the index, or of the constraint, that
// an index name means.
func (d *drafter) isIndex(key, name string) bool {
	kind, object, _ := strings.Cut(key, " ")
	return kind == string(schema.Index) && object == name ||
		kind == string(schema.Constraint) && schema.Unqualified(object) == schema.Unqualified(name)
}

func (d *drafter) stillParents(table string) []string {
	was, is := schema.List(d.before[schema.KeyOf(schema.Table, table)].Props[schema.Inherits]), schema.List(
		d.after[schema.KeyOf(schema.Table, table)].Props[schema.Inherits],
	)
	return slices.DeleteFunc(was, func(parent string) bool { return !slices.Contains(is, parent) })
}

func (d *drafter) writeDrop(o schema.Object) {
	key := o.Key()
	if d.goesWith(o) != "" {
		return
	}
	sql := schema.Drafted{SQL: drop(o)}
	rank := removing
	switch {
	case o.Kind == schema.Type && d.rebuilt[key]:
		sql.SQL = "DROP " + word(o) + " " + aside(o.Name)
	case o.Kind == schema.Table && o.Props[schema.OnServer] == "":
		sql.Loses = "the rows of " + o.Name
	case o.Kind == schema.Column && o.Props[schema.Generated] == "":
		sql.Loses = "what is in " + o.Name
	case o.Kind == schema.DefaultGrant:
		bare := o
		bare.Props = schema.Props{
			schema.ForRole:  o.Props[schema.ForRole],
			schema.For:      o.Props[schema.For],
			schema.InSchema: o.Props[schema.InSchema],
		}
		d.add(d.dropping, key, clearing, plain(d.grants(o, bare)...))
		return
	case derived(o.Kind):
		rank = clearing
	}
	a := d.add(d.dropping, key, rank+10*(len(schema.Kinds)-schema.Rank(o.Kind)), []schema.Drafted{sql})
	if t, stays := d.after[tableKey(o)]; o.Kind == schema.Index && d.Concurrent && stays &&
		t.Props[schema.Partitioned] == "" &&
		o.Props[schema.PartitionOf] == "" {
		a.statements[0].SQL = "DROP INDEX CONCURRENTLY " + o.Name
		a.autocommit = true
	}
}

// aside is the name that a type has while another one takes its place.
func aside(name string) string {
	return suffixed(name, "_before")
}

// suffixed puts something after the last part of a name, which may be quoted.
func suffixed(name, suffix string) string {
	if open, quoted := strings.CutSuffix(name, `"`); quoted {
		return open + suffix + `"`
	}
	return name + suffix
}

// made reports whether a table is made by this script.
func (d *drafter) made(table string) bool {
	key := schema.KeyOf(schema.Table, table)
	_, was := d.before[key]
	_, is := d.after[key]
	return is && (!was || d.gone[key])
}
