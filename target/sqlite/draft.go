package sqlite

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"vorrang/core/schema"
)

// Draft implements engine.Drafter. What ALTER TABLE cannot do is done by rebuilding
// the table: its rows are set aside, it is dropped and made as it should be, and the
// rows come back. Source: https://www.sqlite.org/lang_altertable.html, "Making Other
// Kinds Of Table Schema Changes", in a form that renames nothing, so that no foreign
// key, view or trigger is rewritten.
func (Engine) Draft(is, should schema.Schema, _ schema.Style) schema.Script {
	d := &drafter{
		before:  schema.ByKey(is),
		after:   schema.ByKey(should),
		had:     schema.Tables(is, schema.Constraint),
		have:    schema.Tables(should, schema.Constraint),
		rebuilt: map[string]bool{},
	}
	for key, o := range d.before { // triggers go with a view as with a table
		if now, stays := d.after[key]; o.Kind == schema.View && !(stays && maps.Equal(o.Props, now.Props)) {
			d.rebuilt[o.Name] = true
		}
	}
	d.tables()
	for _, kind := range []schema.Kind{schema.Trigger, schema.View, schema.Index} { // triggers may name views
		d.others(kind)
	}
	script := schema.Script{Undraftable: d.undrafted}
	if all := slices.Concat(d.drops, d.changes, d.makes); len(all) > 0 {
		script.Parts = []schema.Part{{Statements: all}}
	}
	script.Reordered = slices.DeleteFunc(
		schema.Reordered(is, should),
		func(table string) bool { return d.rebuilt[table] },
	)
	return script
}

type drafter struct {
	before, after map[string]schema.Object
	had, have     map[string]schema.Described // by table
	rebuilt       map[string]bool

	drops, changes, makes []schema.Drafted // in this order
	undrafted             []schema.Unsupported
}

func (d *drafter) tables() {
	for _, name := range slices.Backward(byReference(d.had)) { // who refers goes before who is referred to
		if _, stays := d.have[name]; !stays {
			d.changes = append(
				d.changes,
				schema.Drafted{SQL: "DROP TABLE " + name, Loses: "the table " + name + " with its rows"},
			)
		}
	}
	for _, name := range byReference(d.have) {
		now := d.have[name]
		was, there := d.had[name]
		switch {
		case !there:
			d.changes = append(d.changes, schema.Drafted{SQL: tableText(now)})
		case same(was, now):
		case isVirtual(was) || isVirtual(now):
			d.cannot(
				now.Object,
				"a virtual table keeps its rows in a way of its own; drop it and make it again, and load its rows",
			)
		default:
			d.alter(was, now)
		}
	}
}

func (d *drafter) cannot(o schema.Object, why string) {
	d.undrafted = append(d.undrafted, schema.Unsupported{Kind: o.Kind, Name: o.Name, Why: why})
}

func isVirtual(t schema.Described) bool { return t.Props[schema.Definition] != "" }

func same(t, other schema.Described) bool {
	equal := func(a, b []schema.Object) bool {
		return slices.EqualFunc(
			a, b,
			func(a, b schema.Object) bool { return a.Name == b.Name && maps.Equal(a.Props, b.Props) },
		)
	}
	return maps.Equal(t.Props, other.Props) && equal(t.Columns, other.Columns) && equal(t.Parts, other.Parts)
}

// byReference sorts tables so that each stands after those that it refers to, as far
// as that goes.
func byReference(tables map[string]schema.Described) []string {
	var sorted []string
	seen := map[string]bool{}
	var visit func(name string)
	visit = func(name string) {
		if _, is := tables[name]; !is || seen[name] {
			return
		}
		seen[name] = true
		for _, c := range tables[name].Parts {
			visit(refersTo(c))
		}
		sorted = append(sorted, name)
	}
	for _, name := range slices.Sorted(maps.Keys(tables)) {
		visit(name)
	}
	return sorted
}

var references = regexp.MustCompile(`^FOREIGN KEY \(.*?\) REFERENCES ("(?:[^"]|"")+"|[^ (]+)`)

// refersTo is the table that a foreign key names; empty for other constraints.
func refersTo(c schema.Object) string {
	if found := references.FindStringSubmatch(c.Props[schema.Definition]); found != nil {
		return found[1]
	}
	return ""
}

// alter changes a table that stays.
func (d *drafter) alter(was, now schema.Described) {
	if statements, can := d.plainly(was, now); can {
		d.changes = append(d.changes, statements...)
		return
	}
	for _, name := range slices.Sorted(maps.Keys(d.had)) {
		for _, c := range d.had[name].Parts {
			if refersTo(c) == now.Name && acts.MatchString(c.Props[schema.Definition]) {
				d.cannot(
					now.Object,
					fmt.Sprintf(
						"it has to be rebuilt, and %s refers to it with ON DELETE: where foreign keys are held, its rows would follow "+
							"those that are set aside; "+
							"write the step by hand, with mode: autocommit and PRAGMA foreign_keys = OFF",
						name,
					),
				)
				return
			}
		}
	}
	d.rebuild(was, now)
}

var acts = regexp.MustCompile(` ON DELETE (CASCADE|SET|RESTRICT)`)

// plainly changes a table by ALTER TABLE, if that can: columns that are added after
// all others, or dropped where nothing else names them.
func (d *drafter) plainly(was, now schema.Described) ([]schema.Drafted, bool) {
	if !maps.Equal(was.Props, now.Props) {
		return nil, false
	}
	constraints := map[string]schema.Object{} // what is added
	for _, c := range now.Parts {
		if old, there := d.before[c.Key()]; !there || !maps.Equal(old.Props, c.Props) {
			constraints[c.Name] = c
		}
	}
	for _, c := range was.Parts {
		if k, stays := d.after[c.Key()]; !stays || !maps.Equal(k.Props, c.Props) {
			return nil, false
		}
	}
	var statements []schema.Drafted
	var stay []schema.Object
	for _, c := range was.Columns {
		if _, stays := d.after[c.Key()]; stays {
			stay = append(stay, c)
			continue
		}
		if c.Props[schema.Generated] != "" || d.named(c) {
			return nil, false
		}
		statements = append(
			statements,
			schema.Drafted{
				SQL:   fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", now.Name, c.Local()),
				Loses: "the values of " + c.Name,
			},
		)
	}
	for i, c := range now.Columns {
		if i < len(stay) {
			if c.Name != stay[i].Name || !maps.Equal(c.Props, stay[i].Props) {
				return nil, false
			}
			continue
		}
		added, can := addColumn(c, constraints, i == len(now.Columns)-1)
		if !can {
			return nil, false
		}
		statements = append(
			statements,
			schema.Drafted{SQL: fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", now.Name, added)},
		)
	}
	return statements, len(constraints) == 0
}

// named reports whether anything that stays names a column: ALTER TABLE refuses to
// drop it then.
func (d *drafter) named(c schema.Object) bool {
	name := regexp.MustCompile(`(?i)(^|[^\w])` + regexp.QuoteMeta(c.Local()) + `($|[^\w])`)
	for _, o := range d.before {
		if o.Kind != schema.Column && o.Kind != schema.Table && name.MatchString(o.Props[schema.Definition]) ||
			o.Of == c.Of && name.MatchString(o.Props[schema.Generated]) {
			return true
		}
	}
	return false
}

var fixedDefault = regexp.MustCompile(`(?i)^([^(]*)$`)

// addColumn is a column as ADD COLUMN takes it, with those of the constraints that are
// about it alone, which it takes off the list. The last one takes the checks, since
// all columns are there by then.
func addColumn(c schema.Object, constraints map[string]schema.Object, last bool) (string, bool) {
	value := c.Props[schema.Default]
	switch {
	case c.Props[schema.Identity] != "", strings.HasSuffix(c.Props[schema.Generated], " STORED"):
		return "", false
	case c.Props[schema.Null] == "no" && c.Props[schema.Generated] == "" &&
		(value == "" || strings.EqualFold(value, "NULL")):
		return "", false
	case !fixedDefault.MatchString(value) || strings.HasPrefix(strings.ToUpper(value), "CURRENT_"):
		return "", false
	}
	text := columnText(c)
	only := "FOREIGN KEY (" + c.Local() + ") "
	for _, name := range slices.Sorted(maps.Keys(constraints)) {
		k := constraints[name]
		definition := k.Props[schema.Definition]
		switch {
		case last && strings.HasPrefix(definition, "CHECK "):
		case strings.HasPrefix(definition, only) && (value == "" || strings.EqualFold(value, "NULL")):
			definition = strings.TrimPrefix(definition, only)
		default:
			continue
		}
		text += constraintName(k) + " " + definition
		delete(constraints, name)
	}
	return text, true
}

// rebuild makes a table again, with its rows.
func (d *drafter) rebuild(was, now schema.Described) {
	d.rebuilt[now.Name] = true
	var both, gone, fresh []string
	for _, c := range now.Columns {
		old, there := d.before[c.Key()]
		switch {
		case c.Props[schema.Generated] != "":
		case there && old.Props[schema.Generated] == "":
			both = append(both, c.Local())
		case c.Props[schema.Null] == "no" && c.Props[schema.Default] == "":
			fresh = append(fresh, c.Local())
		}
	}
	for _, c := range was.Columns {
		if _, stays := d.after[c.Key()]; !stays && c.Props[schema.Generated] == "" {
			gone = append(gone, c.Name)
		}
	}
	aside, columns := identifier("kept "+strings.ReplaceAll(now.Name, `"`, "")), strings.Join(both, ", ")
	takes := "copies the rows of " + now.Name + " twice, and fails where a row does not fit the table as it should be"
	if len(fresh) > 0 {
		takes += "; " + strings.Join(fresh, ", ") + " is NOT NULL without a default, so it fails if there is a row"
	}
	drop := schema.Drafted{SQL: "DROP TABLE " + now.Name}
	if len(gone) > 0 {
		drop.Loses = "the values of " + strings.Join(gone, ", ")
	}
	add := func(sql string) { d.changes = append(d.changes, schema.Drafted{SQL: sql}) }
	if len(both) > 0 {
		d.changes = append(
			d.changes,
			schema.Drafted{
				SQL:   fmt.Sprintf("CREATE TEMP TABLE %s AS SELECT %s FROM main.%s", aside, columns, now.Name),
				Takes: takes,
			},
		)
		add("PRAGMA defer_foreign_keys = ON")
	}
	d.changes = append(d.changes, drop, schema.Drafted{SQL: tableText(now)})
	if len(both) > 0 {
		add(fmt.Sprintf("INSERT INTO main.%s (%s) SELECT %s FROM temp.%s", now.Name, columns, columns, aside))
		add("DROP TABLE temp." + aside)
	}
}

// others drops and makes what holds no rows. What is on a table that is dropped goes
// with it.
func (d *drafter) others(kind schema.Kind) {
	goes := func(o schema.Object) bool {
		_, stays := d.have[o.Of]
		return o.Of != "" && (!stays && d.had[o.Of].Name != "" || d.rebuilt[o.Of])
	}
	for _, key := range slices.Sorted(maps.Keys(d.before)) {
		o := d.before[key]
		now, stays := d.after[key]
		if o.Kind == kind && (!stays || !maps.Equal(o.Props, now.Props)) && !goes(o) {
			d.drops = append(
				d.drops,
				schema.Drafted{SQL: fmt.Sprintf("DROP %s %s", strings.ToUpper(string(kind)), localName(o))},
			)
		}
	}
	var makes []schema.Drafted
	for _, key := range slices.Sorted(maps.Keys(d.after)) {
		o := d.after[key]
		was, there := d.before[key]
		if o.Kind == kind && (!there || !maps.Equal(o.Props, was.Props) || goes(o)) {
			makes = append(makes, schema.Drafted{SQL: o.Props[schema.Definition]})
		}
	}
	d.makes = append(makes, d.makes...)
}

// localName is the object's own name: a trigger's is the file's.
func localName(o schema.Object) string {
	if o.Kind == schema.Trigger {
		return o.Local()
	}
	return o.Name
}

// tableText is the CREATE TABLE of a table.
func tableText(t schema.Described) string {
	if isVirtual(t) {
		return t.Props[schema.Definition]
	}
	var lines []string
	inline := "" // a key that can stand with its column only
	for _, c := range t.Columns {
		line := columnText(c)
		if c.Props[schema.Identity] != "" {
			inline = "PRIMARY KEY (" + c.Local() + ")"
			line += " PRIMARY KEY " + c.Props[schema.Identity]
		}
		lines = append(lines, "    "+line)
	}
	for _, c := range t.Parts {
		if definition := c.Props[schema.Definition]; definition != inline {
			lines = append(lines, "   "+constraintName(c)+" "+definition)
		}
	}
	text := "CREATE TABLE " + t.Name + " (\n" + strings.Join(lines, ",\n") + "\n)"
	if options := t.Props[schema.Options]; options != "" {
		text += " " + options
	}
	return text
}

// constraintName is CONSTRAINT and a name, with a space before it, where the
// constraint has one of its own.
func constraintName(c schema.Object) string {
	if local := c.Local(); !strings.HasPrefix(local, c.Props[schema.Definition]) {
		return " CONSTRAINT " + again.ReplaceAllString(local, "")
	}
	return ""
}

// again is what tells a constraint from another of the same name.
var again = regexp.MustCompile(` \(\d+\)$`)

func columnText(c schema.Object) string {
	text := c.Local()
	for _, part := range []struct{ before, text string }{
		{" ", c.Props[schema.DataType]}, {" COLLATE ", c.Props[schema.Collated]}, {" GENERATED ALWAYS AS ", c.Props[schema.Generated]}, {" DEFAULT ", c.Props[schema.Default]},
	} {
		if part.text != "" {
			text += part.before + part.text
		}
	}
	if c.Props[schema.Null] == "no" {
		text += " NOT NULL"
	}
	return text
}
