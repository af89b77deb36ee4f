package drafting

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vorrang/core/schema"
)

// writeAlter turns an object that stays into what it should be.
func (d *drafter) writeAlter(was, o schema.Object) {
	if now := o.Props[schema.Inherited]; now != was.Props[schema.Inherited] &&
		(now == "yes" || was.Props[schema.Inherited] == "yes" && now != "") &&
		d.after[tableKey(o)].Props[schema.Partition] == "" {
		d.unable[o.Key()] = "no statement changes whether it is inherited only, or one of the table's own too"
	}
	if o.Kind == schema.Column {
		d.writeAlterColumn(was, o)
		return
	}
	if len(differing(was, o)) == 0 {
		return
	}
	var sql []string
	say := func(format string, values ...any) { sql = append(sql, fmt.Sprintf(format, values...)) }
	is := o.Props
	differs := func(name schema.Property) bool { return was.Props[name] != is[name] }
	autocommit := false
	switch o.Kind {
	case schema.Extension:
		if differs("version") {
			say("ALTER EXTENSION %s UPDATE TO %s", o.Name, literal(is["version"]))
		}
		if differs(schema.InSchema) {
			say("ALTER EXTENSION %s SET SCHEMA %s", o.Name, is[schema.InSchema])
		}
	case schema.Server, schema.Wrapper:
		sql = alterServer(was, o)
	case schema.Type:
		sql, autocommit = d.alterType(was, o)
	case schema.Sequence:
		if differs("sequence") && is[schema.IdentityOf] == "" && was.Props[schema.IdentityOf] == "" {
			say("ALTER SEQUENCE %s %s", o.Name, noCycle(is["sequence"]))
		}
		if differs("unlogged") {
			say("ALTER SEQUENCE %s SET %s", o.Name, cmp.Or(flag(is["unlogged"], "UNLOGGED"), "LOGGED"))
		}
	case schema.Table:
		sql = d.alterTable(was, o)
	case schema.Constraint:
		sql, autocommit = d.alterConstraint(was, o)
	case schema.Index:
		if differs(schema.Tablespace) {
			say("ALTER INDEX %s SET TABLESPACE %s", o.Name, cmp.Or(is[schema.Tablespace], "pg_default"))
		}
	case schema.View:
		if differs(schema.Definition) || differs(schema.Options) {
			say(
				"CREATE OR REPLACE VIEW %s%s AS\n%s",
				o.Name,
				around(" WITH (", is[schema.Options], ")"),
				trim(is[schema.Definition]),
			)
		}
	case schema.Materialized:
		sql = alterMaterialized(was, o)
	case schema.Function:
		if differs(schema.Definition) {
			say("%s", trim(is[schema.Definition]))
		}
	case schema.Publication:
		if differs("publishes") || differs("via root") {
			say(
				"ALTER PUBLICATION %s SET (publish = %s, publish_via_partition_root = %t)",
				o.Name,
				literal(is["publishes"]),
				is["via root"] != "",
			)
		}
	}
	sql = append(sql, d.attributes(was, o)...)
	if len(sql) > 0 {
		d.add(d.altering, o.Key(), building+10*schema.Rank(o.Kind), plain(sql...)).autocommit = autocommit
	}
}

func alterServer(was, o schema.Object) []string {
	var sql []string
	say := func(format string, values ...any) { sql = append(sql, fmt.Sprintf(format, values...)) }
	is := o.Props
	differs := func(name schema.Property) bool { return was.Props[name] != is[name] }
	if differs("handler") {
		say("ALTER FOREIGN DATA WRAPPER %s %s", o.Name, cmp.Or(with("HANDLER ", is["handler"]), "NO HANDLER"))
	}
	if differs("validator") {
		say("ALTER FOREIGN DATA WRAPPER %s %s", o.Name, cmp.Or(with("VALIDATOR ", is["validator"]), "NO VALIDATOR"))
	}
	if o.Kind == schema.Server && differs("version") {
		say("ALTER SERVER %s VERSION %s", o.Name, literal(is["version"]))
	}
	if differs(schema.ForeignTable) {
		say(
			"ALTER %s %s OPTIONS (%s)", word(o), o.Name,
			foreignOptions(was.Props[schema.ForeignTable], is[schema.ForeignTable]),
		)
	}
	return sql
}

// alterType tells also whether the statements must commit by themselves.
func (d *drafter) alterType(was, o schema.Object) ([]string, bool) {
	autocommit := false
	var sql []string
	say := func(format string, values ...any) { sql = append(sql, fmt.Sprintf(format, values...)) }
	is := o.Props
	differs := func(name schema.Property) bool { return was.Props[name] != is[name] }
	switch {
	case differs(schema.Labels):
		sql = addLabels(o.Name, schema.List(was.Props[schema.Labels]), schema.List(is[schema.Labels]))
		autocommit = d.Concurrent // a new label can be used only once it is committed
	case differs(schema.Attributes):
		sql, _ = d.reshape(was, o)
	}
	if o.Props[schema.Is] == "domain" && differs(schema.Default) {
		say("ALTER DOMAIN %s %s", o.Name, cmp.Or(with("SET DEFAULT ", is[schema.Default]), "DROP DEFAULT"))
	}
	if differs(schema.Null) {
		say("ALTER DOMAIN %s %s NOT NULL", o.Name, cmp.Or(flag(is[schema.Null], "SET"), "DROP"))
	}
	return sql, autocommit
}

// alterConstraint tells also whether the statements must commit by themselves.
func (d *drafter) alterConstraint(was, o schema.Object) ([]string, bool) {
	autocommit := false
	var sql []string
	say := func(format string, values ...any) { sql = append(sql, fmt.Sprintf(format, values...)) }
	is := o.Props
	differs := func(name schema.Property) bool { return was.Props[name] != is[name] }
	if differs(schema.Definition) {
		say("ALTER TABLE %s VALIDATE CONSTRAINT %s", o.Of, o.Local())
		autocommit = d.Concurrent
	}
	index := schema.Qualifier(o.Of) + o.Local()
	sql = append(sql, options("ALTER INDEX "+index, was.Props[schema.Options], is[schema.Options])...)
	if differs(schema.Tablespace) {
		say("ALTER INDEX %s SET TABLESPACE %s", index, cmp.Or(is[schema.Tablespace], "pg_default"))
	}
	return sql, autocommit
}

func alterMaterialized(was, o schema.Object) []string {
	var sql []string
	say := func(format string, values ...any) { sql = append(sql, fmt.Sprintf(format, values...)) }
	is := o.Props
	differs := func(name schema.Property) bool { return was.Props[name] != is[name] }
	sql = append(sql, options(strings.TrimSpace(alter(o)), was.Props[schema.Options], is[schema.Options])...)
	if differs(schema.Tablespace) {
		say("%sSET TABLESPACE %s", alter(o), cmp.Or(is[schema.Tablespace], "pg_default"))
	}
	if differs("populated") {
		say("REFRESH MATERIALIZED VIEW %s%s", o.Name, flag(is["populated"], " WITH NO DATA"))
	}
	return sql
}

func (d *drafter) alterTable(was, o schema.Object) []string {
	var sql []string
	is := o.Props
	say := func(format string, values ...any) {
		sql = append(sql, "ALTER "+word(o)+" "+o.Name+" "+fmt.Sprintf(format, values...))
	}
	differs := func(name schema.Property) bool { return was.Props[name] != is[name] }
	parents, desired := schema.List(was.Props[schema.Inherits]), schema.List(is[schema.Inherits])
	if was.Props[schema.Partition] != "" && (differs(schema.Partition) || differs(schema.Inherits)) {
		sql = append(sql, fmt.Sprintf("ALTER TABLE %s DETACH PARTITION %s", parents[0], o.Name))
		parents = nil
	}
	for _, parent := range parents {
		if !slices.Contains(desired, parent) {
			say("NO INHERIT %s", parent)
		}
	}
	for _, parent := range desired {
		if is[schema.Partition] == "" && !slices.Contains(parents, parent) {
			say("INHERIT %s", parent)
		}
	}
	if differs("unlogged") {
		say("SET %s", cmp.Or(flag(is["unlogged"], "UNLOGGED"), "LOGGED"))
	}
	if differs("of type") {
		say("%s", cmp.Or(with("OF ", is["of type"]), "NOT OF"))
	}
	sql = append(sql, options("ALTER TABLE "+o.Name, was.Props[schema.Options], is[schema.Options])...)
	sql = append(sql, options("ALTER TABLE "+o.Name, was.Props[schema.ToastOptions], is[schema.ToastOptions])...)
	if differs("access method") {
		say("SET ACCESS METHOD %s", cmp.Or(is["access method"], "heap"))
	}
	if differs(schema.Tablespace) {
		say("SET TABLESPACE %s", cmp.Or(is[schema.Tablespace], "pg_default"))
	}
	if differs(schema.ForeignTable) {
		say("OPTIONS (%s)", foreignOptions(was.Props[schema.ForeignTable], is[schema.ForeignTable]))
	}
	return sql
}

func (d *drafter) writeAlterColumn(was, o schema.Object) {
	key := o.Key()
	before := was
	before.Props = maps.Clone(was.Props)
	if d.reset[key] {
		delete(before.Props, "default")
	}
	if d.retyped[key] { // which sets these again
		delete(before.Props, "storage")
		delete(before.Props, "compression")
	}
	_, isTable := d.after[tableKey(o)]
	var statements []schema.Drafted
	alter := func(more string) string {
		return fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s %s", o.Of, o.Local(), more)
	}
	newlyNull, newlyNot := was.Props[schema.Null] != "" &&
		o.Props[schema.Null] == "", was.Props[schema.Null] == "" &&
		o.Props[schema.Null] != ""
	var slow []schema.Drafted
	if isTable && newlyNot {
		t := d.after[tableKey(o)]
		if d.Concurrent && o.Props[schema.Identity] == was.Props[schema.Identity] &&
			t.Props[schema.Partitioned] == "" &&
			t.Props[schema.Partition] == "" &&
			t.Props[schema.OnServer] == "" {
			check := suffixed(o.Local(), "_not_null")
			slow = plain(
				fmt.Sprintf(
					"ALTER TABLE %s ADD CONSTRAINT %s CHECK (%s IS NOT NULL) NOT VALID",
					o.Of, check, o.Local(),
				),
				fmt.Sprintf("ALTER TABLE %s VALIDATE CONSTRAINT %s", o.Of, check),
				alter("SET NOT NULL"),
				fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", o.Of, check),
			)
			slow[1].Takes = "fails where " + o.Name + " is null"
		} else {
			statements = append(statements,
				schema.Drafted{SQL: alter("SET NOT NULL"), Takes: "fails where " + o.Name +
					" is null, and reads all rows under a lock"})
		}
	}
	if isTable && was.Props[schema.Generated] != "" && o.Props[schema.Generated] == "" {
		if !slices.ContainsFunc(d.stillParents(o.Of), func(parent string) bool {
			return d.before[above(o, parent)].Props[schema.Generated] != "" &&
				d.after[above(o, parent)].Props[schema.Generated] == ""
		}) {
			statements = append(statements, plain(alter("DROP EXPRESSION"))...)
		}
		delete(before.Props, "generated")
	}
	if isTable && d.retyped[key] && !d.inheritedRetype(o) {
		statements = append(statements, d.setType(was, o))
	}
	statements = append(statements, plain(d.columnAttributes(before, o, "ONLY ")...)...)
	if isTable && newlyNull && !d.inheritedNull(o) {
		statements = append(statements, plain(alter("DROP NOT NULL"))...)
	}
	if len(statements) > 0 {
		d.add(d.altering, key, building+10*schema.Rank(schema.Column), statements)
	}
	if len(slow) > 0 {
		a := d.add(d.making, key, building+10*schema.Rank(schema.Column)+6, slow)
		a.autocommit = true
		if first := d.altering[key]; first != nil {
			a.needs[first] = true
		}
	}
}

// inheritedRetype reports whether a parent's change of type reaches a column.
func (d *drafter) inheritedRetype(o schema.Object) bool {
	return slices.ContainsFunc(
		d.stillParents(o.Of),
		func(parent string) bool { return d.retyped[column(parent+"."+o.Local())] },
	)
}

func (d *drafter) inheritedNull(o schema.Object) bool {
	return slices.ContainsFunc(d.stillParents(o.Of), func(parent string) bool {
		key := column(parent + "." + o.Local())
		return d.before[key].Props[schema.Null] != "" && d.after[key].Props[schema.Null] == ""
	})
}

// castable are families of types that turn into each other without a word about how.
var castable = [][]string{
	{"text", "character varying", "character", "name"},
	{"smallint", "integer", "bigint", "numeric", "real", "double precision"},
	{"date", "timestamp without time zone", "timestamp with time zone"},
	{"json", "jsonb"},
}

// setType sets a column's type. Where the server may not know how, the text of a
// value is read as the new type.
func (d *drafter) setType(was, o schema.Object) schema.Drafted {
	family := func(name string) int {
		base, _, _ := strings.Cut(name, "(")
		if rest, is := strings.CutPrefix(name, "timestamp("); is {
			_, zone, _ := strings.Cut(rest, ") ")
			base = "timestamp " + zone
		}
		return slices.IndexFunc(castable, func(names []string) bool { return slices.Contains(names, base) })
	}
	one, other := family(was.Props[schema.DataType]), family(o.Props[schema.DataType])
	using := ""
	switch {
	case was.Props[schema.DataType] == o.Props[schema.DataType] &&
		!slices.ContainsFunc(o.Needs, func(key string) bool { return d.rebuilt[key] }):
	case one >= 0 && one == other, other == 0:
	case one == 0:
		using = fmt.Sprintf(" USING %s::%s", o.Local(), o.Props[schema.DataType])
	default:
		using = fmt.Sprintf(" USING %s::text::%s", o.Local(), o.Props[schema.DataType])
	}
	drafted := schema.Drafted{
		SQL: fmt.Sprintf(
			"ALTER %s %s ALTER COLUMN %s TYPE %s%s%s",
			word(d.after[tableKey(o)]), o.Of, o.Local(), o.Props[schema.DataType],
			with(" COLLATE ", o.Props[schema.Collated]),
			using,
		),
		Takes: "may write " + o.Of + " again, under a lock, and fails where a value does not fit",
	}
	if d.after[tableKey(o)].Props[schema.OnServer] != "" {
		drafted.SQL, drafted.Takes = strings.TrimSuffix(drafted.SQL, using), ""
	}
	return drafted
}

func addLabels(name string, was, is []string) []string {
	var sql []string
	for i, label := range is {
		switch {
		case slices.Contains(was, label):
		case i > 0:
			sql = append(sql, fmt.Sprintf("ALTER TYPE %s ADD VALUE %s AFTER %s", name, label, is[i-1]))
		default:
			sql = append(sql, fmt.Sprintf("ALTER TYPE %s ADD VALUE %s BEFORE %s", name, label, was[0]))
		}
	}
	return sql
}

// reshape alters a composite type's attributes, if only some go, some come at
// the end, and some change their type; and if no table's column is of it.
func (d *drafter) reshape(is, should schema.Object) ([]string, bool) {
	for _, user := range d.users[is.Key()] {
		if o := d.before[user]; o.Kind == schema.Column || o.Kind == schema.Table {
			return nil, false
		}
	}
	var sql, kept []string
	was, now := schema.List(is.Props[schema.Attributes]), schema.List(should.Props[schema.Attributes])
	name := func(attribute string) string {
		if strings.HasPrefix(attribute, `"`) {
			return attribute[:strings.LastIndex(attribute[:strings.LastIndex(attribute, `" `)+1], `"`)+1]
		}
		head, _, _ := strings.Cut(attribute, " ")
		return head
	}
	find := func(attributes []string, wanted string) int {
		return slices.IndexFunc(attributes, func(one string) bool { return name(one) == wanted })
	}
	for _, one := range was {
		if at := find(now, name(one)); at < 0 {
			sql = append(sql, fmt.Sprintf("ALTER TYPE %s DROP ATTRIBUTE %s", is.Name, name(one)))
		} else {
			kept = append(kept, name(one))
			if now[at] != one {
				sql = append(sql, fmt.Sprintf("ALTER TYPE %s ALTER ATTRIBUTE %s TYPE%s", is.Name, name(one),
					strings.TrimPrefix(now[at], name(one))))
			}
		}
	}
	for i, one := range now {
		switch {
		case i < len(kept) && name(one) == kept[i]:
		case i >= len(kept) && find(was, name(one)) < 0:
			sql = append(sql, fmt.Sprintf("ALTER TYPE %s ADD ATTRIBUTE %s", is.Name, one))
		default:
			return nil, false
		}
	}
	return sql, true
}
