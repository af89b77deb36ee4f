package drafting

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"vorrang/core/schema"
)

// Ranks order acts that do not need each other: what is in the way goes first,
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

func (d *drafter) add(into map[string]*act, key string, rank int, statements []schema.Drafted) *act {
	a := &act{key: key, rank: rank, statements: statements, needs: map[*act]bool{}}
	d.acts = append(d.acts, a)
	into[key] = a
	return a
}

// write makes the acts.
func (d *drafter) write() {
	for _, o := range d.from.Objects {
		if d.gone[o.Key()] {
			d.writeDrop(o)
		} else if d.reset[o.Key()] && o.Props[schema.Default] != "" {
			d.add(d.dropping, "default "+o.Name, clearing, plain(fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s DROP DEFAULT", o.Of, o.Local())))
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

// suffixed puts something behind the last part of a name, which may be quoted.
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

func (d *drafter) writeMake(o schema.Object) {
	key, rank := o.Key(), building+10*schema.Rank(o.Kind)
	t, onTable := d.after[tableKey(o)]
	existing := onTable && !d.made(o.Of) && t.Props[schema.OnServer] == ""
	switch {
	case o.Kind == schema.Column && onTable && d.made(o.Of):
		return // it comes with its table
	case o.Kind == schema.Column && onTable:
		if d.inheritsMade(o) { // with what a new column takes along, and no more
			bare := schema.Object{Props: inheritable(o, d.inheritedFrom(t, o.Local()))}
			delete(bare.Props, "storage")
			if sql := d.columnAttributes(bare, o, "ONLY "); len(sql) > 0 {
				d.add(d.altering, key, rank+1, plain(sql...))
			}
			return
		}
		bare := schema.Object{Props: inheritable(o, schema.Object{Props: schema.Props{}})}
		for _, name := range inline {
			set(bare.Props, name, o.Props[name])
		}
		add := schema.Drafted{SQL: fmt.Sprintf("ALTER %s %s ADD COLUMN %s", word(t), o.Of, d.column(o))}
		if o.Props[schema.Null] != "" && o.Props[schema.Default] == "" && o.Props[schema.Generated] == "" &&
			o.Props[schema.Identity] == "" {
			add.Takes = "fails where " + o.Of + " has rows: there is no default for them"
		} else if o.Props[schema.Generated] != "" || o.Props[schema.Identity] != "" {
			add.Takes = "writes " + o.Of + " anew, under a lock"
		}
		d.add(d.making, key, rank, append([]schema.Drafted{add}, plain(d.columnAttributes(bare, o, "ONLY ")...)...))
	case o.Kind == schema.Column: // of a view
		if sql := d.columnAttributes(schema.Object{Props: schema.Props{schema.DataType: o.Props[schema.DataType]}}, o, ""); len(
			sql,
		) > 0 {
			d.add(d.making, key, building+10*schema.Rank(schema.Materialized)+5, plain(sql...))
		}
	case o.Kind == schema.Type && d.rebuilt[key]:
		was := d.before[key]
		d.add(
			d.making,
			key,
			rank,
			plain(
				append(
					[]string{
						fmt.Sprintf("ALTER %s %s RENAME TO %s", word(was), o.Name, schema.Unqualified(aside(o.Name))),
					},
					d.create(o)...)...),
		)
	case o.Kind == schema.Index && o.Props[schema.Valid] != "":
		d.unable[key] = "it is invalid: its build did not end, and an invalid index is nothing to make"
	case o.Kind == schema.Index && existing && d.Concurrent && t.Props[schema.Partitioned] == "":
		sql := d.create(o)
		for _, unique := range []string{"", "UNIQUE "} {
			sql[0] = strings.Replace(
				sql[0],
				"CREATE "+unique+"INDEX "+schema.Unqualified(o.Name)+" ",
				"CREATE "+unique+"INDEX CONCURRENTLY "+schema.Unqualified(o.Name)+" ",
				1,
			)
		}
		d.add(d.making, key, rank, plain(sql...)).autocommit = true
	case o.Kind == schema.Constraint && d.comesAlong(o):
		for _, parent := range schema.List(t.Props[schema.Inherits]) { // a table that is made later has no rows that could not meet it
			if p := d.after[above(o, parent)]; p.Props[schema.Definition] == o.Props[schema.Definition]+" NOT VALID" {
				d.add(
					d.making,
					"validated "+key,
					rank+6,
					plain(fmt.Sprintf("ALTER TABLE %s VALIDATE CONSTRAINT %s", o.Of, o.Local())),
				)
			}
		}
	case o.Kind == schema.Constraint && existing && o.Props[schema.Domain] == "":
		d.writeConstraint(o, t, rank)
	default:
		if sql := d.create(o); len(sql) > 0 {
			d.add(d.making, key, rank, plain(sql...))
		}
	}
}

// inheritsMade reports whether a new column or constraint comes to its table
// from a parent.
func (d *drafter) inheritsMade(o schema.Object) bool {
	if o.Props[schema.Inherited] != "yes" {
		return false
	}
	parents := d.stillParents(o.Of)
	if d.made(o.Of) {
		parents = schema.List(d.after[tableKey(o)].Props[schema.Inherits])
	}
	for _, parent := range parents {
		key := above(o, parent)
		if _, was := d.before[key]; (!was || d.gone[key]) && d.after[key].Name != "" {
			return true
		}
	}
	return false
}

// comesAlong reports whether a constraint comes to its table with its parent's:
// when that is made, or with the table itself, unless it is a partition, which
// must have its parent's checks before it is attached.
func (d *drafter) comesAlong(o schema.Object) bool {
	t := d.after[tableKey(o)]
	return o.Props[schema.Inherited] == "yes" && (d.inheritsMade(o) || d.made(o.Of) && t.Props[schema.Partition] == "")
}

// writeConstraint adds a constraint to a table that is there already, in the
// form that does not block others for long.
func (d *drafter) writeConstraint(o, t schema.Object, rank int) {
	key, definition := o.Key(), o.Props[schema.Definition]
	statements := plain(d.create(o)...)
	kind, columns, rest := uniqueness(definition)
	switch {
	case !d.Concurrent, t.Props[schema.Partitioned] != "":
		d.add(d.making, key, rank, statements)
	case kind != "":
		include, deferred := rest, ""
		if at := strings.Index(rest, " DEFERRABLE"); at >= 0 {
			include, deferred = rest[:at], rest[at:]
		}
		nulls := ""
		if strings.HasSuffix(kind, "NULLS NOT DISTINCT") {
			kind, nulls = "UNIQUE", " NULLS NOT DISTINCT"
		}
		build := fmt.Sprintf(
			"CREATE UNIQUE INDEX CONCURRENTLY %s ON %s %s%s%s%s%s",
			o.Local(),
			o.Of,
			columns,
			include,
			nulls,
			around(" WITH (", o.Props[schema.Options], ")"),
			with(" TABLESPACE ", o.Props[schema.Tablespace]),
		)
		use := fmt.Sprintf(
			"ALTER TABLE %s ADD CONSTRAINT %s %s USING INDEX %s%s",
			o.Of,
			o.Local(),
			kind,
			o.Local(),
			deferred,
		)
		statements = append(plain(build, use), statements[1:]...)
		statements[0].Takes = "fails where rows repeat"
		d.add(d.making, key, rank, statements).autocommit = true
	case isForeignKey(o), isCheck(o):
		if strings.HasSuffix(definition, " NOT VALID") {
			d.add(d.making, key, rank, statements)
			return
		}
		statements[0].SQL += " NOT VALID"
		first := d.add(d.making, "unvalidated "+key, rank, statements)
		second := d.add(
			d.making,
			key,
			rank+5,
			[]schema.Drafted{
				{
					SQL:   fmt.Sprintf("ALTER TABLE %s VALIDATE CONSTRAINT %s", o.Of, o.Local()),
					Takes: "fails where rows do not meet it",
				},
			},
		)
		second.autocommit = true
		second.needs[first] = true
	default:
		d.add(d.making, key, rank, statements)
	}
}

// uniqueness takes a primary key's or a unique constraint's definition apart.
func uniqueness(definition string) (kind, columns, rest string) {
	for _, kind := range []string{"PRIMARY KEY", "UNIQUE NULLS NOT DISTINCT", "UNIQUE"} {
		if after, is := strings.CutPrefix(definition, kind+" ("); is {
			quoted, depth := false, 1
			for i := range len(after) {
				switch {
				case after[i] == '"':
					quoted = !quoted
				case quoted:
				case after[i] == '(':
					depth++
				case after[i] == ')':
					if depth--; depth == 0 {
						return kind, "(" + after[:i+1], after[i+1:]
					}
				}
			}
		}
	}
	return "", "", ""
}

// writeLinks makes what ties objects together, and can come only when all of
// them are there: a default, a sequence's owner, a partition, an index's part.
func (d *drafter) writeLinks(was, o schema.Object, isMade bool) {
	switch o.Kind {
	case schema.Column:
		changed := isMade || d.reset[o.Key()] || was.Props[schema.Default] != o.Props[schema.Default]
		t, onTable := d.after[tableKey(o)]
		if len(o.DefaultNeeds) > 0 && changed && onTable {
			d.add(
				d.making,
				"default "+o.Name,
				building+10*schema.Rank(schema.Column),
				plain(
					fmt.Sprintf(
						"ALTER %s ONLY %s ALTER COLUMN %s SET DEFAULT %s",
						word(t),
						o.Of,
						o.Local(),
						o.Props[schema.Default],
					),
				),
			)
		}
	case schema.Sequence:
		if owner := o.Props[schema.OwnedBy]; isMade && owner != "" ||
			!isMade && owner != was.Props[schema.OwnedBy] && o.Props[schema.IdentityOf] == "" &&
				was.Props[schema.IdentityOf] == "" {
			d.add(
				d.making,
				"owned "+o.Name,
				building+10*schema.Rank(schema.Column)+1,
				plain(fmt.Sprintf("ALTER SEQUENCE %s OWNED BY %s", o.Name, cmp.Or(owner, "NONE"))),
			)
		}
	case schema.Table:
		if o.Props[schema.Partition] != "" &&
			(isMade || was.Props[schema.Partition] != o.Props[schema.Partition] || was.Props[schema.Inherits] != o.Props[schema.Inherits]) {
			d.add(
				d.making,
				"attached "+o.Name,
				building+10*schema.Rank(schema.Table)+5,
				plain(
					fmt.Sprintf(
						"ALTER TABLE ONLY %s ATTACH PARTITION %s %s",
						o.Props[schema.Inherits],
						o.Name,
						o.Props[schema.Partition],
					),
				),
			)
		}
	case schema.Index, schema.Constraint:
		of := o.Props[schema.PartitionOf]
		if of == "" || !isMade && was.Props[schema.PartitionOf] == of {
			return
		}
		name := o.Name
		if o.Kind == schema.Constraint {
			name = schema.Qualifier(o.Of) + o.Local()
		}
		for _, need := range o.Needs {
			_, had := d.before[need]
			if d.isIndex(need, of) && (!had || d.gone[need] || !d.made(o.Of)) {
				d.add(
					d.making,
					"part "+o.Key(),
					building+10*schema.Rank(schema.Index)+5,
					plain(fmt.Sprintf("ALTER INDEX %s ATTACH PARTITION %s", of, name)),
				)
			}
		}
	}
}

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
				"ALTER %s %s OPTIONS (%s)",
				word(o),
				o.Name,
				foreignOptions(was.Props[schema.ForeignTable], is[schema.ForeignTable]),
			)
		}
	case schema.Type:
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
		if differs(schema.Definition) {
			say("ALTER TABLE %s VALIDATE CONSTRAINT %s", o.Of, o.Local())
			autocommit = d.Concurrent
		}
		index := schema.Qualifier(o.Of) + o.Local()
		sql = append(sql, options("ALTER INDEX "+index, was.Props[schema.Options], is[schema.Options])...)
		if differs(schema.Tablespace) {
			say("ALTER INDEX %s SET TABLESPACE %s", index, cmp.Or(is[schema.Tablespace], "pg_default"))
		}
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
		sql = append(sql, options(strings.TrimSpace(alter(o)), was.Props[schema.Options], is[schema.Options])...)
		if differs(schema.Tablespace) {
			say("%sSET TABLESPACE %s", alter(o), cmp.Or(is[schema.Tablespace], "pg_default"))
		}
		if differs("populated") {
			say("REFRESH MATERIALIZED VIEW %s%s", o.Name, flag(is["populated"], " WITH NO DATA"))
		}
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
	if d.retyped[key] { // which sets these anew
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
					o.Of,
					check,
					o.Local(),
				),
				fmt.Sprintf("ALTER TABLE %s VALIDATE CONSTRAINT %s", o.Of, check),
				alter("SET NOT NULL"),
				fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", o.Of, check),
			)
			slow[1].Takes = "fails where " + o.Name + " is null"
		} else {
			statements = append(statements, schema.Drafted{SQL: alter("SET NOT NULL"), Takes: "fails where " + o.Name + " is null, and reads all rows under a lock"})
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
		statements = append(statements, d.retype(was, o))
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

// retype sets a column's type. Where the server may not know how, the text of a
// value is read as the new type.
func (d *drafter) retype(was, o schema.Object) schema.Drafted {
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
	case was.Props[schema.DataType] == o.Props[schema.DataType] && !slices.ContainsFunc(o.Needs, func(key string) bool { return d.rebuilt[key] }):
	case one >= 0 && one == other, other == 0:
	case one == 0:
		using = fmt.Sprintf(" USING %s::%s", o.Local(), o.Props[schema.DataType])
	default:
		using = fmt.Sprintf(" USING %s::text::%s", o.Local(), o.Props[schema.DataType])
	}
	drafted := schema.Drafted{
		SQL: fmt.Sprintf(
			"ALTER %s %s ALTER COLUMN %s TYPE %s%s%s",
			word(d.after[tableKey(o)]),
			o.Of,
			o.Local(),
			o.Props[schema.DataType],
			with(" COLLATE ", o.Props[schema.Collated]),
			using,
		),
		Takes: "may write " + o.Of + " anew, under a lock, and fails where a value does not fit",
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
				sql = append(sql, fmt.Sprintf("ALTER TYPE %s ALTER ATTRIBUTE %s TYPE%s", is.Name, name(one), strings.TrimPrefix(now[at], name(one))))
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

// writeRows loads rows into tables once they are made, and before what checks,
// refuses or multiplies them.
func (d *drafter) writeRows() {
	loads := map[string]*act{}
	for _, rows := range d.Rows {
		statements := []schema.Drafted{
			{
				SQL:  fmt.Sprintf("COPY %s (%s) FROM stdin", rows.Table, strings.Join(rows.Columns, ", ")),
				Data: rows.Data,
			},
		}
		load := d.add(
			d.making,
			"rows "+rows.Table,
			building+10*schema.Rank(schema.Table)+7,
			append(statements, plain(rows.Next...)...),
		)
		loads[rows.Table] = load
		before(d.makeOf(schema.KeyOf(schema.Table, rows.Table)), load)
	}
	for _, o := range d.to.Objects {
		if o.Kind == schema.Table && o.Props[schema.Partition] != "" {
			before(d.making["attached "+o.Name], loads[o.Props[schema.Inherits]])
		}
		for table, load := range loads {
			switch o.Kind {
			case schema.Sequence:
				if of := cmp.Or(o.Props[schema.OwnedBy], o.Props[schema.IdentityOf]); strings.HasPrefix(of, table+".") {
					before(d.making[o.Key()], load)
				}
			case schema.Constraint:
				if o.Of == table || isForeignKey(o) {
					before(load, d.making[o.Key()])
				}
			case schema.Index, schema.Trigger, schema.Rule, schema.Policy:
				if o.Of == table {
					before(load, d.making[o.Key()])
				}
			}
		}
	}
}
