package findings

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"
	"google.golang.org/protobuf/proto"

	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/internal/plural"
)

// alterTable reads ALTER TABLE, action by action.
func (s *script) alterTable(alter *pg.AlterTableStmt) {
	table := s.nameOf(alter.Relation)
	if alter.Objtype != pg.ObjectType_OBJECT_TABLE {
		for _, node := range alter.Cmds {
			if node.GetAlterTableCmd().GetSubtype() == pg.AlterTableType_AT_ChangeOwner {
				s.role(node.GetAlterTableCmd().Newowner)
			}
		}
		return
	}
	for _, node := range alter.Cmds {
		if c := node.GetAlterTableCmd(); c != nil {
			s.action(alter, table, c)
		}
	}
}

func (s *script) action(alter *pg.AlterTableStmt, table string, c *pg.AlterTableCmd) {
	if c.Subtype == pg.AlterTableType_AT_ChangeOwner {
		s.role(c.Newowner)
	}
	if !s.InUse(table) {
		return
	}
	s.nearEnd(table)
	column := quote(c.Name)
	switch c.Subtype {
	case pg.AlterTableType_AT_AddColumn:
		s.lock(table)
		s.addColumn(table, c.Def.GetColumnDef())
	case pg.AlterTableType_AT_DropColumn:
		s.lock(table)
		s.breaks("readers.drop-column", schema.Column, table+"."+column, c.Name)
		s.cascade(c.Behavior)
	case pg.AlterTableType_AT_AlterColumnType:
		s.lock(table)
		s.columnType(table, c)
	case pg.AlterTableType_AT_SetNotNull:
		s.lock(table)
		s.setNotNull(table, c.Name)
	case pg.AlterTableType_AT_ColumnDefault:
		if c.Def == nil {
			s.Find("writers.drop-default", "column "+table+"."+column, c.Name, "", "")
		}
	case pg.AlterTableType_AT_AddConstraint:
		s.lock(table)
		s.addConstraint(alter, table, c)
	case pg.AlterTableType_AT_ValidateConstraint:
		s.reader.given[s.reader.checks[table+" "+c.Name]] = true
		if at, added := s.notValid[table+" "+c.Name]; added && s.transaction {
			s.FindOn("blocks.validate-at-once", table, c.Name,
				fmt.Sprintf("%s is validated in the transaction of statement %d, which adds it", c.Name, at+1), "")
		}
	case pg.AlterTableType_AT_DropConstraint:
		s.dropConstraint(table, c.Name)
		s.cascade(c.Behavior)
	case pg.AlterTableType_AT_AddIdentity:
		s.lock(table)
		if c.Def.GetConstraint().GetGeneratedWhen() == "a" {
			s.Find("writers.generated-key", "column "+table+"."+column, c.Name, "",
				s.textOf(alter, c, func(c *pg.AlterTableCmd) { c.Def.GetConstraint().GeneratedWhen = "d" }))
		}
	case pg.AlterTableType_AT_SetLogged, pg.AlterTableType_AT_SetUnLogged:
		s.lock(table)
		s.FindOn("rewrites.logged", table, "", "", "")
	case pg.AlterTableType_AT_DisableTrig, pg.AlterTableType_AT_DisableTrigAll, pg.AlterTableType_AT_DisableTrigUser:
		s.lock(table)
		s.Find("writers.triggers-off", "table "+table, "", "", "")
	case pg.AlterTableType_AT_EnableRowSecurity:
		s.lock(table)
		if len(s.ofTable(schema.Policy, table)) == 0 {
			f := s.About("readers.row-security", "table "+table, "", "", "")
			s.dropped = append(s.dropped, drop{"policy", table, f})
		}
	case pg.AlterTableType_AT_DetachPartition:
		s.detach(table, alter, c)
	}
}

// broken is a finding about something that goes away: what uses it is named, and how
// often it was used.
func (s *script) broken(code string, kind schema.Kind, name, near string) review.Finding {
	f := s.About(code, string(kind)+" "+name, near, "", "")
	const shown = 5
	if users := s.usedBy(kind, name); len(users) > 0 {
		f.Message += "; it is used by " + strings.Join(users[:min(len(users), shown)], ", ")
	}
	s.used(&f, kind, name)
	return f
}

// breaks adds a finding about something that goes away.
func (s *script) breaks(code string, kind schema.Kind, name, near string) {
	s.Breaks(s.broken(code, kind, name, near))
}

// used adds how often something was read or called: since the last expand was applied,
// where that is known, or since the server counts.
func (s *script) used(f *review.Finding, kind schema.Kind, name string) {
	if count, since, known := s.In.UsesSinceExpand(s.Step.Number, kind, name); known {
		f.InUse = count > 0
		f.Message += fmt.Sprintf("; the server counted %s of it since step %s was applied, at %s UTC",
			plural.Of(int(count), "use"), since.Step, since.At.UTC().Format("2006-01-02 15:04"))
		return
	}
	count, known := s.In.Figures.UsesOf(kind, name)
	if !known {
		return
	}
	since := s.In.Figures.Since
	if since != "" {
		since = " since " + since
	}
	f.Message += fmt.Sprintf("; the server counted %s of it%s", plural.Of(int(count), "use"), since)
}

func (s *script) cascade(behavior pg.DropBehavior) {
	if behavior == pg.DropBehavior_DROP_CASCADE {
		s.Find("loses.cascade", "", "CASCADE", "", "")
	}
}

// addColumn reads a column that is added to a table in use.
func (s *script) addColumn(table string, def *pg.ColumnDef) {
	if def == nil {
		return
	}
	name := table + "." + quote(def.Colname)
	s.columns[name] = true
	var required, hasDefault, computed, numbered bool
	var volatile string
	numbered = slices.Contains(
		[]string{"serial", "bigserial", "smallserial", "serial4", "serial8", "serial2"},
		last(def.TypeName.GetNames()),
	)
	for _, node := range def.Constraints {
		c := node.GetConstraint()
		switch c.GetContype() {
		case pg.ConstrType_CONSTR_NOTNULL:
			required = true
		case pg.ConstrType_CONSTR_PRIMARY:
			required = true
			s.FindOn("blocks.key-build", table, def.Colname, "", "")
		case pg.ConstrType_CONSTR_UNIQUE:
			s.FindOn("blocks.key-build", table, def.Colname, "", "")
		case pg.ConstrType_CONSTR_DEFAULT:
			hasDefault = c.RawExpr.GetAConst() == nil || !c.RawExpr.GetAConst().Isnull
			volatile = volatileIn(c.RawExpr)
		case pg.ConstrType_CONSTR_GENERATED:
			computed = true
		case pg.ConstrType_CONSTR_IDENTITY:
			numbered = true
		case pg.ConstrType_CONSTR_FOREIGN:
			s.foreignKey(table, []string{def.Colname}, c)
		}
	}
	s.columnTypes(name, def)
	switch {
	case computed:
		s.FindOn("rewrites.stored-column", table, def.Colname, "", "")
	case numbered:
		s.FindOn("rewrites.numbered-column", table, def.Colname, "", "")
	case volatile != "":
		s.FindOn(
			"rewrites.default-per-row",
			table,
			def.Colname,
			fmt.Sprintf("%s is computed for each row, so that the table is written again", volatile),
			s.lateDefault(table, def),
		)
	case required && !hasDefault:
		s.Find("writers.required-column", "column "+name, def.Colname, "", "")
	}
}

// volatileFunctions are those of the server that give another value each time. Source:
// pg_proc of PostgreSQL 15, provolatile = 'v'. now() and its like are stable.
var volatileFunctions = []string{
	"random", "random_normal", "gen_random_uuid", "uuid_generate_v4", "uuid_generate_v1", "uuidv4", "uuidv7",
	"clock_timestamp", "timeofday",
	"nextval", "setseed", "gen_random_bytes", "txid_current",
}

// volatileIn names the first volatile function of an expression; empty for none. What a
// function of the application does is not known, and it is taken as not volatile.
func volatileIn(expression *pg.Node) (name string) {
	inTree(expression, func(call *pg.FuncCall) {
		if called := last(call.Funcname); name == "" && slices.Contains(volatileFunctions, called) {
			name = called + "()"
		}
	})
	return name
}

// lateDefault adds a column without its default, and sets that afterwards.
func (s *script) lateDefault(table string, def *pg.ColumnDef) string {
	plain := proto.Clone(def).(*pg.ColumnDef)
	var value *pg.Node
	plain.Constraints = slices.DeleteFunc(plain.Constraints, func(n *pg.Node) bool {
		c := n.GetConstraint()
		if c.GetContype() == pg.ConstrType_CONSTR_DEFAULT {
			value = c.RawExpr
		}
		return c.GetContype() == pg.ConstrType_CONSTR_DEFAULT || c.GetContype() == pg.ConstrType_CONSTR_NOTNULL
	})
	add := s.textOf(s.node.GetAlterTableStmt(), &pg.AlterTableCmd{
		Subtype: pg.AlterTableType_AT_AddColumn, Behavior: pg.DropBehavior_DROP_RESTRICT,
		Def: &pg.Node{Node: &pg.Node_ColumnDef{ColumnDef: plain}},
	}, nil)
	set := s.textOf(s.node.GetAlterTableStmt(), &pg.AlterTableCmd{
		Subtype: pg.AlterTableType_AT_ColumnDefault, Name: def.Colname, Behavior: pg.DropBehavior_DROP_RESTRICT, Def: value,
	}, nil)
	return fmt.Sprintf("%s\n%s\n-- then fill the rows that are there in a step with mode: batches", add, set)
}

// textOf writes an ALTER TABLE with one action, which change may alter first.
func (s *script) textOf(alter *pg.AlterTableStmt, c *pg.AlterTableCmd, change func(*pg.AlterTableCmd)) string {
	c = proto.Clone(c).(*pg.AlterTableCmd)
	if change != nil {
		change(c)
	}
	one := proto.Clone(alter).(*pg.AlterTableStmt)
	one.Cmds = []*pg.Node{{Node: &pg.Node_AlterTableCmd{AlterTableCmd: c}}}
	return written(&pg.Node{Node: &pg.Node_AlterTableStmt{AlterTableStmt: one}})
}

// columnType reads a change of a column's type. Where the schema is known, a change that
// keeps the form of the values is none.
func (s *script) columnType(table string, c *pg.AlterTableCmd) {
	name := table + "." + quote(c.Name)
	def := c.Def.GetColumnDef()
	if before, known := s.object(schema.Column, name); known &&
		sameForm(before.Props[schema.DataType], def.GetTypeName()) {
		return
	}
	s.FindOn("rewrites.column-type", table, c.Name, "", "")
	s.Find("readers.column-type", "column "+name, c.Name, "", "")
	if def.GetRawDefault() != nil {
		s.Find("loses.converted", "column "+name, c.Name, "", "")
	}
}

var width = regexp.MustCompile(`^character varying(?:\((\d+)\))?$`)

// sameForm reports whether a column can take a type without being written again: a
// varchar that gets wider, or becomes text. Source: the manual of ALTER TABLE, Notes.
func sameForm(before string, after *pg.TypeName) bool {
	was := width.FindStringSubmatch(before)
	if was == nil {
		return false
	}
	switch last(after.GetNames()) {
	case "text":
		return true
	case "varchar":
		if len(after.Typmods) == 0 {
			return true
		}
		var old int32
		_, _ = fmt.Sscan(was[1], &old) // empty for one without a width
		return old > 0 && after.Typmods[0].GetAConst().GetIval().GetIval() >= old
	}
	return false
}

func (s *script) setNotNull(table, column string) {
	name := table + "." + quote(column)
	if s.columns[name] {
		return // the rows that are there were filled by the same script
	}
	s.Find("writers.not-null", "column "+name, column, "", "")
	s.unmetNotNull(table, column)
	if s.reader.given[name] {
		return // the server takes the check's word for it
	}
	for _, o := range s.ofTable(schema.Constraint, table) {
		if o.Props[schema.Valid] != "no" &&
			strings.Contains(o.Props[schema.Definition], "("+quote(column)+" IS NOT NULL)") {
			return // the server takes the check's word for it
		}
	}
	check := quote(strings.ReplaceAll(column, `"`, "") + "_is_given")
	s.FindOn("blocks.not-null-scan", table, column, "", fmt.Sprintf(
		"ALTER TABLE %[1]s ADD CONSTRAINT %[2]s CHECK (%[3]s IS NOT NULL) NOT VALID;\n"+
			"-- in a step of its own, or in mode: autocommit\nALTER TABLE %[1]s VALIDATE CONSTRAINT %[2]s;\n"+
			"-- then\nALTER TABLE %[1]s ALTER COLUMN %[3]s SET NOT NULL;\nALTER TABLE %[1]s DROP CONSTRAINT %[2]s;",
		table, check, quote(column),
	))
}

func (s *script) dropConstraint(table, name string) {
	o, known := s.object(schema.Constraint, table+"."+quote(name))
	definition := o.Props[schema.Definition]
	if known && (strings.HasPrefix(definition, "UNIQUE") || strings.HasPrefix(definition, "PRIMARY KEY")) {
		s.Find("writers.drop-key", "constraint "+table+"."+quote(name), name, "", "")
	}
}

func (s *script) detach(table string, alter *pg.AlterTableStmt, c *pg.AlterTableCmd) {
	if c.Def.GetPartitionCmd().GetConcurrent() {
		return
	}
	s.lock(table)
	s.FindOn("blocks.detach", table, "", "", ownStep+
		s.textOf(alter, c, func(c *pg.AlterTableCmd) { c.Def.GetPartitionCmd().Concurrent = true }))
}
