package drafting

import (
	"cmp"
	"fmt"
	"strings"

	"vorrang/core/schema"
)

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
			add.Takes = "writes " + o.Of + " again, under a lock"
		}
		d.add(d.making, key, rank, append([]schema.Drafted{add}, plain(d.columnAttributes(bare, o, "ONLY ")...)...))
	case o.Kind == schema.Column: // of a view
		bare := schema.Object{Props: schema.Props{schema.DataType: o.Props[schema.DataType]}}
		if sql := d.columnAttributes(bare, o, ""); len(sql) > 0 {
			d.add(d.making, key, building+10*schema.Rank(schema.Materialized)+5, plain(sql...))
		}
	case o.Kind == schema.Type && d.rebuilt[key]:
		was := d.before[key]
		d.add(
			d.making, key, rank,
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
			o.Local(), o.Of, columns, include, nulls,
			around(" WITH (", o.Props[schema.Options], ")"),
			with(" TABLESPACE ", o.Props[schema.Tablespace]),
		)
		use := fmt.Sprintf(
			"ALTER TABLE %s ADD CONSTRAINT %s %s USING INDEX %s%s",
			o.Of, o.Local(), kind, o.Local(), deferred,
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
			d.making, key, rank+5,
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
						word(t), o.Of, o.Local(), o.Props[schema.Default],
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
			(isMade || was.Props[schema.Partition] != o.Props[schema.Partition] ||
				was.Props[schema.Inherits] != o.Props[schema.Inherits]) {
			d.add(
				d.making,
				"attached "+o.Name,
				building+10*schema.Rank(schema.Table)+5,
				plain(
					fmt.Sprintf(
						"ALTER TABLE ONLY %s ATTACH PARTITION %s %s",
						o.Props[schema.Inherits], o.Name, o.Props[schema.Partition],
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

// writeRows loads rows into tables once they are made, and before what checks,
// refuses or multiplies them.
func (d *drafter) writeRows() {
	loads := map[string]*action{}
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
			building+10*schema.Rank(schema.Table)+7, append(statements, plain(rows.Next...)...),
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
