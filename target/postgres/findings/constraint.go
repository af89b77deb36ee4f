package findings

import (
	"fmt"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"vorrang/core/schema"
)

// reference is a foreign key: columns of a table that refer to another.
type reference struct {
	table   string
	columns []string
	finding func(rewrite string)
}

// index is what an index or key finds by.
type index struct {
	table, name string
	columns     []string // empty where it has expressions or a condition
	unique      bool
	report      func(other string)
}

// addConstraint reads a constraint that is added to a table in use.
func (s *script) addConstraint(alter *pg.AlterTableStmt, table string, cmd *pg.AlterTableCmd) {
	c := cmd.Def.GetConstraint()
	switch c.GetContype() {
	case pg.ConstrType_CONSTR_CHECK:
		s.Find("writers.new-check", "table "+table, c.Conname, "", "")
		if test := c.RawExpr.GetNullTest(); test.GetNulltesttype() == pg.NullTestType_IS_NOT_NULL {
			name := table + "." + quote(last(test.GetArg().GetColumnRef().GetFields()))
			s.reader.checks[table+" "+c.Conname] = name
			s.reader.given[name] = s.reader.given[name] || !c.SkipValidation
		}
		s.unmetCheck(table, c)
		s.scan("blocks.check-scan", alter, table, cmd, s.nameOfCheck(table, c))
	case pg.ConstrType_CONSTR_FOREIGN:
		columns := namesIn(c.FkAttrs)
		s.foreignKey(table, columns, c)
		s.unmetReference(table, columns, c)
		s.scan("blocks.reference-scan", alter, table, cmd, nameOr(c.Conname, table, columns, "fkey"))
		s.lock(s.nameOf(c.Pktable))
	case pg.ConstrType_CONSTR_UNIQUE, pg.ConstrType_CONSTR_PRIMARY, pg.ConstrType_CONSTR_EXCLUSION:
		if c.Indexname != "" {
			return
		}
		s.unmetUnique(table, c.Conname, namesIn(c.Keys))
		s.Find("writers.new-unique", "table "+table, c.Conname, "", "")
		s.FindOn("blocks.key-build", table, c.Conname, "", s.usingIndex(table, c))
	}
}

// scan is about a constraint that is added while all rows are read.
func (s *script) scan(code string, alter *pg.AlterTableStmt, table string, cmd *pg.AlterTableCmd, name string) {
	c := cmd.Def.GetConstraint()
	if c.SkipValidation {
		s.notValid[table+" "+c.Conname] = s.Index
		return
	}
	added := s.textOf(alter, cmd, func(c *pg.AlterTableCmd) {
		constraint := c.Def.GetConstraint()
		constraint.Conname, constraint.SkipValidation, constraint.InitiallyValid = name, true, false
	})
	s.FindOn(code, table, c.Conname, "", fmt.Sprintf(
		"%s\n-- in a step of its own, or in mode: autocommit\nALTER TABLE %s VALIDATE CONSTRAINT %s;",
		added,
		table,
		quote(name),
	))
}

// usingIndex makes a key of an index that is built beside the application.
func (s *script) usingIndex(table string, c *pg.Constraint) string {
	if c.Contype == pg.ConstrType_CONSTR_EXCLUSION {
		return ""
	}
	columns := namesIn(c.Keys)
	kind, name := "UNIQUE", nameOr(c.Conname, table, columns, "key")
	if c.Contype == pg.ConstrType_CONSTR_PRIMARY {
		kind, name = "PRIMARY KEY", nameOr(c.Conname, table, nil, "pkey")
	}
	return fmt.Sprintf(
		ownStep+"CREATE UNIQUE INDEX CONCURRENTLY %[1]s ON %[2]s (%[3]s);\n"+
			"ALTER TABLE %[2]s ADD CONSTRAINT %[1]s %[4]s USING INDEX %[1]s;",
		quote(name), table, quotedList(columns), kind,
	)
}

// foreignKey reads what holds for each foreign key, also one of a new column or table.
func (s *script) foreignKey(table string, columns []string, c *pg.Constraint) {
	if c.FkDelAction == "c" {
		s.Find("loses.delete-cascade", "table "+table, "CASCADE", "", "")
	}
	isNew := len(columns) > 0 && s.columns[table+"."+quote(columns[0])]
	if s.InUse(table) && !isNew {
		s.Find("writers.new-reference", "table "+table, c.Conname, "", "")
	}
	label := table + " (" + strings.Join(columns, ", ") + ")"
	near := ""
	if len(columns) > 0 {
		near = columns[0]
	}
	f := s.About(
		"index.missing-for-reference",
		"table "+table,
		near,
		"no index finds the rows of "+label+" that refer to "+s.nameOf(c.Pktable),
		"",
	)
	s.refers = append(s.refers, reference{table, columns, func(rewrite string) {
		f.Rewrite = rewrite
		s.Add(f)
	}})
}

// references finds the foreign keys that no index of the script or of the target serves.
func (s *script) references() {
	for _, r := range s.refers {
		served := slices.ContainsFunc(
			s.keys,
			func(i index) bool { return i.table == r.table && leads(i.columns, r.columns) },
		) ||
			slices.ContainsFunc(s.indexesOf(r.table), func(i index) bool { return leads(i.columns, r.columns) })
		if served || len(r.columns) == 0 {
			continue
		}
		name := quote(strings.NewReplacer(`"`, "", ".", "_").Replace(r.table) + "_by_" + strings.Join(r.columns, "_"))
		concurrently, before := "", ""
		if s.InUse(r.table) {
			concurrently, before = "CONCURRENTLY ", ownStep
		}
		r.finding(
			fmt.Sprintf("%sCREATE INDEX %s%s ON %s (%s);", before, concurrently, name, r.table, quotedList(r.columns)),
		)
	}
}

// leads reports whether an index finds by some columns: they are its first ones, in
// any order.
func leads(index, columns []string) bool {
	if len(index) < len(columns) {
		return false
	}
	for _, column := range index[:len(columns)] {
		if !slices.Contains(columns, column) {
			return false
		}
	}
	return true
}

// indexesOf are the indexes and keys of a table of the target.
func (s *script) indexesOf(table string) (all []index) {
	for _, kind := range []schema.Kind{schema.Index, schema.Constraint} {
		for _, o := range s.ofTable(kind, table) {
			definition := o.Props[schema.Definition]
			isKey := strings.HasPrefix(definition, "PRIMARY KEY") || strings.HasPrefix(definition, "UNIQUE")
			if kind == schema.Constraint && !isKey {
				continue
			}
			from := strings.IndexByte(definition, '(')
			to := strings.IndexByte(definition, ')')
			if from < 0 || to < from || strings.Contains(definition, " WHERE ") ||
				strings.Contains(definition[from+1:to], "(") {
				continue
			}
			i := index{table: table, name: lastOf(o.Name), unique: isKey || strings.Contains(definition, "UNIQUE")}
			for _, column := range schema.List(definition[from+1 : to]) {
				name, _, _ := strings.Cut(column, " ")
				i.columns = append(i.columns, strings.Trim(name, `"`))
			}
			all = append(all, i)
		}
	}
	return all
}

// lastOf is a name without what stands before its last dot.
func lastOf(name string) string { return name[strings.LastIndexByte(name, '.')+1:] }

// covered finds the new indexes whose columns lead another one's.
func (s *script) covered() {
	for at, i := range s.keys {
		if i.report == nil || i.unique || len(i.columns) == 0 {
			continue
		}
		others := append(slices.Delete(slices.Clone(s.keys), at, at+1), s.indexesOf(i.table)...)
		for _, other := range others {
			longer := len(other.columns) > len(i.columns) || len(other.columns) == len(i.columns) && other.report == nil
			if other.table == i.table && other.name != i.name && longer &&
				slices.Equal(other.columns[:len(i.columns)], i.columns) {
				i.report(other.name)
				break
			}
		}
	}
}

// nameOfCheck is the name that the server gives to a check without one. Source:
// AddRelationNewConstraints in heap.c.
func (s *script) nameOfCheck(table string, c *pg.Constraint) string {
	var columns []string
	inTree(c.RawExpr, func(ref *pg.ColumnRef) {
		if name := last(ref.Fields); !slices.Contains(columns, name) {
			columns = append(columns, name)
		}
	})
	if len(columns) != 1 {
		columns = nil
	}
	return nameOr(c.Conname, table, columns, "check")
}

// nameOr is a constraint's name, or the one that the server gives it, as far as that is
// not cut and not taken.
func nameOr(name, table string, columns []string, suffix string) string {
	if name != "" {
		return name
	}
	local := table[strings.LastIndexByte(table, '.')+1:]
	return strings.Join(append(append([]string{strings.Trim(local, `"`)}, columns...), suffix), "_")
}

func namesIn(list []*pg.Node) (names []string) {
	for _, node := range list {
		names = append(names, node.GetString_().GetSval())
	}
	return names
}

func quotedList(columns []string) string {
	quoted := make([]string, len(columns))
	for i, column := range columns {
		quoted[i] = quote(column)
	}
	return strings.Join(quoted, ", ")
}
