package mariadb

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"vorrang/core/schema"
)

// Draft implements engine.Drafter. All that becomes of a table is one ALTER TABLE, but
// for its foreign keys, which go before everything and come after it. The server
// commits after each statement, so a draft is a step of mode autocommit.
func (Engine) Draft(is, should schema.Schema, style schema.Style) schema.Script {
	if !style.Owners {
		is, should = is.Without(schema.OwnedByRole), should.Without(schema.OwnedByRole)
	}
	d := &drafter{
		before: schema.ByKey(is),
		after:  schema.ByKey(should),
		had:    schema.Tables(is, schema.Constraint, schema.Index),
		have:   schema.Tables(should, schema.Constraint, schema.Index),
	}
	d.keysGo()
	d.tables()
	d.others()
	script := schema.Script{Undraftable: d.undrafted}
	if all := slices.Concat(d.drops, d.unties, d.changes, d.ties, d.makes); len(all) > 0 {
		script.Parts = []schema.Part{{Autocommit: true, Statements: all}}
	}
	return script
}

type drafter struct {
	before, after map[string]schema.Object
	had, have     map[string]schema.Described // by table

	drops, unties, changes, ties, makes []schema.Drafted // in this order
	undrafted                           []schema.Unsupported
}

func isForeignKey(o schema.Object) bool {
	return o.Kind == schema.Constraint && strings.HasPrefix(o.Props[schema.Definition], "FOREIGN KEY")
}

// stays reports whether an object is to be as it is.
func (d *drafter) stays(o schema.Object) bool {
	now, there := d.after[o.Key()]
	return there && maps.Equal(now.Props, o.Props)
}

// keysGo drops the foreign keys that do not stay, and those of tables that go: these
// may refer to each other in a circle.
func (d *drafter) keysGo() {
	for _, name := range slices.Sorted(maps.Keys(d.had)) {
		var parts []string
		for _, o := range d.had[name].Parts {
			if isForeignKey(o) && !d.stays(o) {
				parts = append(parts, "DROP FOREIGN KEY "+o.Local())
			}
		}
		d.alter(&d.unties, name, parts, schema.Drafted{})
	}
}

func (d *drafter) alter(into *[]schema.Drafted, table string, parts []string, how schema.Drafted) {
	if len(parts) > 0 {
		how.SQL = "ALTER TABLE " + table + " " + strings.Join(parts, ",\n    ")
		*into = append(*into, how)
	}
}

func (d *drafter) tables() {
	for _, name := range slices.Sorted(maps.Keys(d.had)) {
		if _, stays := d.have[name]; !stays {
			d.changes = append(
				d.changes,
				schema.Drafted{SQL: "DROP TABLE " + name, Loses: "the table " + name + " with its rows"},
			)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(d.have)) {
		now := d.have[name]
		var ties []string
		for _, o := range now.Parts {
			if old, there := d.before[o.Key()]; isForeignKey(o) && !(there && d.stays(old)) {
				ties = append(ties, "ADD "+partText(o))
			}
		}
		was, there := d.had[name]
		if there {
			d.change(was, now)
		} else {
			d.changes = append(d.changes, schema.Drafted{SQL: tableText(now)})
		}
		how := schema.Drafted{}
		if there {
			how.Takes = "fails where a row refers to none, and reads the whole table"
		}
		d.alter(&d.ties, name, ties, how)
	}
}

// change alters a table that stays.
func (d *drafter) change(was, now schema.Described) {
	if was.Props[schema.Partitioned] != now.Props[schema.Partitioned] {
		d.undrafted = append(
			d.undrafted,
			schema.Unsupported{
				Kind: schema.Table,
				Name: now.Name,
				Why:  "its partitions are others; write the step by hand",
			},
		)
		return
	}
	var parts, loses, takes []string
	for _, o := range was.Parts {
		if !isForeignKey(o) && !d.stays(o) {
			parts = append(parts, "DROP "+dropText(o))
		}
	}
	order := []string{} // of the columns, as the statement goes on
	for _, c := range was.Columns {
		if _, stays := d.after[c.Key()]; stays {
			order = append(order, c.Name)
			continue
		}
		parts = append(parts, "DROP COLUMN "+c.Local())
		loses = append(loses, c.Name)
	}
	for i, c := range now.Columns {
		place := " FIRST"
		if i > 0 {
			place = " AFTER " + now.Columns[i-1].Local()
		}
		old, there := d.before[c.Key()]
		switch {
		case !there:
			if i == len(order) {
				place = ""
			}
			parts = append(parts, "ADD COLUMN "+columnText(c)+place)
			order = slices.Insert(order, i, c.Name)
		case order[i] != c.Name:
			parts = append(parts, "MODIFY COLUMN "+columnText(c)+place)
			order = slices.DeleteFunc(order, func(name string) bool { return name == c.Name })
			order = slices.Insert(order, i, c.Name)
		case !maps.Equal(old.Props, c.Props):
			parts = append(parts, "MODIFY COLUMN "+columnText(c))
		}
		if there &&
			(old.Props[schema.DataType] != c.Props[schema.DataType] || old.Props[schema.Null] == "" &&
				c.Props[schema.Null] == "no") {
			takes = append(takes, c.Name)
		}
	}
	for _, o := range now.Parts {
		if old, there := d.before[o.Key()]; !isForeignKey(o) && !(there && d.stays(old)) {
			parts = append(parts, "ADD "+partText(o))
		}
	}
	if was.Props[schema.Options] != now.Props[schema.Options] {
		options := now.Props[schema.Options]
		if strings.Contains(was.Props[schema.Options], " COMMENT=") && !strings.Contains(options, " COMMENT=") {
			options += " COMMENT=''"
		}
		parts = append(parts, options)
	}
	how := schema.Drafted{}
	if len(loses) > 0 {
		how.Loses = "the values of " + strings.Join(loses, ", ")
	}
	if len(takes) > 0 {
		how.Takes = "may copy the table, and fails where a value of " + strings.Join(takes, ", ") + " does not fit"
	}
	d.alter(&d.changes, now.Name, parts, how)
}

func dropText(o schema.Object) string {
	switch {
	case o.Kind == schema.Index:
		return "INDEX " + o.Local()
	case o.Local() == "PRIMARY":
		return "PRIMARY KEY"
	case o.Local() == "PERIOD":
		return "PERIOD FOR SYSTEM_TIME"
	}
	return "CONSTRAINT " + o.Local()
}

// partText is a key, constraint or index as a table's definition holds it.
func partText(o schema.Object) string {
	definition := o.Props[schema.Definition]
	switch {
	case o.Kind == schema.Index:
		for _, word := range []string{"UNIQUE ", "FULLTEXT ", "SPATIAL "} {
			if rest, is := strings.CutPrefix(definition, word); is {
				return word + "INDEX " + o.Local() + " " + rest
			}
		}
		return "INDEX " + o.Local() + " " + definition
	case o.Local() == "PRIMARY", o.Local() == "PERIOD":
		return definition
	}
	return "CONSTRAINT " + o.Local() + " " + definition
}

func columnText(c schema.Object) string {
	text := c.Local()
	for _, part := range []schema.Property{schema.DataType, schema.Collated, schema.Generated} {
		if c.Props[part] != "" {
			text += " " + c.Props[part]
		}
	}
	switch {
	case c.Props[schema.Null] == "no":
		text += " NOT NULL"
	case c.Props[schema.Generated] == "": // a TIMESTAMP is NOT NULL otherwise
		text += " NULL"
	}
	if c.Props[schema.Default] != "" {
		text += " DEFAULT " + c.Props[schema.Default]
	}
	if c.Props[schema.Options] != "" {
		text += " " + c.Props[schema.Options]
	}
	return text
}

// tableText is the CREATE TABLE of a table, without its foreign keys.
func tableText(t schema.Described) string {
	var lines []string
	for _, c := range t.Columns {
		lines = append(lines, "    "+columnText(c))
	}
	for _, o := range t.Parts {
		if !isForeignKey(o) {
			lines = append(lines, "    "+partText(o))
		}
	}
	text := "CREATE TABLE " + t.Name + " (\n" + strings.Join(lines, ",\n") + "\n) " + t.Props[schema.Options]
	if t.Props[schema.Partitioned] != "" {
		text += " " + t.Props[schema.Partitioned]
	}
	return strings.TrimSpace(text)
}

// others are what holds no rows: dropped before the tables change, made after them.
func (d *drafter) others() {
	onGone := func(o schema.Object) bool { // it goes with its table
		_, stays := d.have[o.Of]
		return o.Kind == schema.Trigger && !stays
	}
	for _, kind := range []schema.Kind{schema.Event, schema.Trigger, schema.View, schema.Function, schema.Sequence} {
		for _, key := range slices.Sorted(maps.Keys(d.before)) {
			if o := d.before[key]; o.Kind == kind && !d.stays(o) && !onGone(o) {
				d.drops = append(d.drops, schema.Drafted{SQL: dropOther(o)})
			}
		}
	}
	bodies := d.modes()
	for _, kind := range []schema.Kind{schema.Sequence, schema.Function, schema.View, schema.Trigger, schema.Event} {
		var fresh []schema.Object
		for _, key := range slices.Sorted(maps.Keys(d.after)) {
			o := d.after[key]
			if old, there := d.before[key]; o.Kind == kind && !(there && d.stays(old)) {
				fresh = append(fresh, o)
			}
		}
		for _, o := range inOrder(fresh) {
			if mode := o.Props[schema.SQLMode]; readsOtherwise(mode) {
				d.undrafted = append(d.undrafted, schema.Unsupported{Kind: o.Kind, Name: o.Name, Why: "it was made with sql_mode " +
					mode + ", by which its text is read in another way; write the step by hand"})
				continue
			}
			made := schema.Drafted{SQL: createOther(o)}
			if bodies && (kind == schema.Function || kind == schema.Trigger || kind == schema.Event) {
				made.SQL = withMode(o.Props[schema.SQLMode], made.SQL)
			}
			if kind == schema.Sequence { // a column's default may need it
				d.drops = append(d.drops, made)
			} else {
				d.makes = append(d.makes, made)
			}
		}
	}
}

// inOrder puts what names another after it.
func inOrder(list []schema.Object) []schema.Object {
	var sorted []schema.Object
	seen := map[string]bool{}
	var visit func(o schema.Object)
	visit = func(o schema.Object) {
		if seen[o.Name] {
			return
		}
		seen[o.Name] = true
		for _, other := range list {
			if name := regexp.QuoteMeta(strings.TrimSuffix(other.Local(), "()")); other.Name != o.Name &&
				regexp.MustCompile(`(^|\W)`+name+`($|\W)`).MatchString(o.Props[schema.Definition]) {
				visit(other)
			}
		}
		sorted = append(sorted, o)
	}
	for _, o := range list {
		visit(o)
	}
	return sorted
}

func dropOther(o schema.Object) string {
	switch o.Kind {
	case schema.Trigger:
		return "DROP TRIGGER " + o.Local()
	case schema.Function:
		return fmt.Sprintf("DROP %s %s", strings.ToUpper(o.Props[schema.Is]), strings.TrimSuffix(o.Name, "()"))
	}
	return fmt.Sprintf("DROP %s %s", strings.ToUpper(string(o.Kind)), o.Name)
}

func createOther(o schema.Object) string {
	if o.Kind != schema.View {
		return o.Props[schema.Definition]
	}
	text := "CREATE "
	if o.Props[schema.Algorithm] != "" {
		text += "ALGORITHM = " + o.Props[schema.Algorithm] + " "
	}
	if o.Props[schema.Security] != "" {
		text += "SQL SECURITY " + o.Props[schema.Security] + " "
	}
	text += "VIEW " + o.Name + " AS " + o.Props[schema.Definition]
	if o.Props[schema.Check] != "" {
		text += " WITH " + o.Props[schema.Check] + " CHECK OPTION"
	}
	return text
}
