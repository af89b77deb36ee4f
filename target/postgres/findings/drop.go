package findings

import (
	"fmt"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"vorrang/core/schema"
)

func (s *script) drop(d *pg.DropStmt) {
	s.cascade(d.Behavior)
	for _, object := range d.Objects {
		name := joined(object.GetList().GetItems())
		near := last(object.GetList().GetItems())
		switch d.RemoveType {
		case pg.ObjectType_OBJECT_TABLE:
			if s.InUse(name) {
				s.lock(name)
				s.breaks("readers.drop-table", schema.Table, name, near)
			}
		case pg.ObjectType_OBJECT_VIEW, pg.ObjectType_OBJECT_MATVIEW:
			s.later(drop{"view", name, s.broken("readers.drop-view", schema.View, name, near)})
		case pg.ObjectType_OBJECT_FUNCTION, pg.ObjectType_OBJECT_PROCEDURE, pg.ObjectType_OBJECT_ROUTINE:
			function := joined(object.GetObjectWithArgs().GetObjname())
			if s.isTrigger(object.GetObjectWithArgs(), function) {
				continue
			}
			near = last(object.GetObjectWithArgs().GetObjname())
			s.later(drop{"function", function, s.broken("readers.drop-function", schema.Function, function, near)})
		case pg.ObjectType_OBJECT_TRIGGER:
			s.noTrigger = true
		case pg.ObjectType_OBJECT_INDEX:
			s.dropIndex(d, name, near)
		}
	}
}

// isTrigger reports whether a function is a trigger's, which no application can call: one
// without arguments that goes with a trigger, where the schema does not tell.
func (s *script) isTrigger(f *pg.ObjectWithArgs, name string) bool {
	if len(f.Objargs) > 0 {
		return false
	}
	if o, known := s.object(schema.Function, name+"()"); known {
		return strings.Contains(o.Props[schema.Definition], "RETURNS trigger")
	}
	return s.noTrigger
}

func (s *script) dropIndex(d *pg.DropStmt, name, near string) {
	if d.Concurrent || slices.ContainsFunc(s.keys, func(i index) bool { return i.name == name }) {
		return
	}
	f := s.About("blocks.drop-index", "index "+name, near, "",
		ownStep+"DROP INDEX CONCURRENTLY "+name+";")
	s.used(&f, schema.Index, name)
	if o, known := s.object(schema.Index, name); known {
		table := strings.TrimPrefix(o.Of, "public.")
		s.lock(table)
		f = s.Sized(f, table)
	}
	s.Add(f)
}

// later keeps a finding until the script has been read: what was dropped may be made
// again.
func (s *script) later(d drop) { s.dropped = append(s.dropped, d) }

// remade notes that something is there again under a name.
func (s *script) remade(what, name string) {
	s.dropped = slices.DeleteFunc(s.dropped, func(d drop) bool { return d.what == what && d.name == name })
}

func (s *script) rename(r *pg.RenameStmt) {
	table := s.nameOf(r.Relation)
	switch r.RenameType {
	case pg.ObjectType_OBJECT_TABLE, pg.ObjectType_OBJECT_VIEW:
		if !s.InUse(table) {
			return
		}
		s.lock(table)
		renamed := quote(r.Newname)
		if r.Relation.Schemaname != "" && r.Relation.Schemaname != "public" {
			renamed = quote(r.Relation.Schemaname) + "." + renamed
		}
		f := s.broken("readers.rename-table", schema.Table, table, r.Relation.Relname)
		f.Rewrite = fmt.Sprintf("%s;\nCREATE VIEW %s AS SELECT * FROM %s;", s.Statement.SQL, table, renamed)
		s.later(drop{"view", table, f})
	case pg.ObjectType_OBJECT_COLUMN:
		if !s.InUse(table) || r.RelationType != pg.ObjectType_OBJECT_TABLE {
			return
		}
		s.lock(table)
		f := s.broken("readers.rename-column", schema.Column, table+"."+quote(r.Subname), r.Subname)
		f.Rewrite = s.secondColumn(table, r.Subname, r.Newname)
		s.Breaks(f)
	case pg.ObjectType_OBJECT_FUNCTION, pg.ObjectType_OBJECT_PROCEDURE:
		names := r.Object.GetObjectWithArgs().GetObjname()
		s.later(
			drop{
				"function",
				joined(names),
				s.broken("readers.drop-function", schema.Function, joined(names), last(names)),
			},
		)
	}
}

// secondColumn is a renaming in three releases, as far as the type is known.
func (s *script) secondColumn(table, before, after string) string {
	kind := "…"
	if o, known := s.object(schema.Column, table+"."+quote(before)); known {
		kind = o.Props[schema.DataType]
	}
	return fmt.Sprintf(
		"-- phase: expand, and the application writes both\nALTER TABLE %[1]s ADD COLUMN %[3]s %[4]s;\n"+
			"-- phase: migrate, with mode: batches: fill %[3]s from %[2]s\n"+
			"-- phase: contract, when the version that reads %[2]s is gone: ALTER TABLE %[1]s DROP COLUMN %[2]s",
		table, quote(before), quote(after), kind,
	)
}

func (s *script) moveSchema(m *pg.AlterObjectSchemaStmt) {
	if m.ObjectType != pg.ObjectType_OBJECT_TABLE && m.ObjectType != pg.ObjectType_OBJECT_VIEW {
		return
	}
	table := s.nameOf(m.Relation)
	if !s.InUse(table) {
		return
	}
	s.lock(table)
	f := s.broken("readers.move-schema", schema.Table, table, m.Relation.Relname)
	f.Rewrite = fmt.Sprintf("%s;\nCREATE VIEW %s AS SELECT * FROM %s.%s;",
		s.Statement.SQL, table, quote(m.Newschema), quote(m.Relation.Relname))
	s.later(drop{"view", table, f})
}

// enumValues reads what a statement does to enumerations, and with their values.
func (s *script) enumValues() {
	if a := s.node.GetAlterEnumStmt(); a.GetOldVal() != "" && !s.values.Makes(a.TypeName) {
		s.breaks("readers.rename-value", schema.Type, joined(a.TypeName), a.OldVal)
	}
	for _, value := range s.values.Read(s.Statement, s.node) {
		if s.transaction {
			s.Find("enum.used-at-once", "", value, fmt.Sprintf(
				"%q is used in the transaction that adds it to the enumeration; put ALTER TYPE into a step of its own",
				value,
			), "")
		}
	}
}
