package findings

import (
	"fmt"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"
	"google.golang.org/protobuf/proto"
)

func (s *script) createTable(c *pg.CreateStmt) {
	table := s.nameOf(c.Relation)
	if c.IfNotExists {
		s.Find("depends.if-missing", "table "+table, "EXISTS", "", "")
	}
	if c.Partbound != nil && len(c.InhRelations) == 1 {
		s.newPartition(c, table)
	}
	s.Makes(table)
	if c.Relation.GetRelpersistence() == "u" {
		s.Find("loses.unlogged", "table "+table, c.Relation.Relname, "", "")
	}
	hasKey, like := c.Partbound != nil || len(c.InhRelations) > 0, false
	for _, node := range c.TableElts {
		switch {
		case node.GetColumnDef() != nil:
			hasKey = s.newColumn(table, node.GetColumnDef()) || hasKey
		case node.GetTableLikeClause() != nil:
			like = true
		case node.GetConstraint() != nil:
			hasKey = s.newTableConstraint(c, table, node.GetConstraint()) || hasKey
		}
	}
	if !hasKey && !like && c.Relation.GetRelpersistence() != "t" {
		s.Find("table.no-key", "table "+table, c.Relation.Relname, "", "")
	}
}

// newColumn reads a column of a new table; it is true for one that is the key.
func (s *script) newColumn(table string, def *pg.ColumnDef) (key bool) {
	s.columnTypes(table+"."+quote(def.Colname), def)
	for _, node := range def.Constraints {
		c := node.GetConstraint()
		switch c.GetContype() {
		case pg.ConstrType_CONSTR_PRIMARY, pg.ConstrType_CONSTR_UNIQUE:
			key = true
			s.keys = append(s.keys, index{table: table, columns: []string{def.Colname}, unique: true})
			s.smallKey(table, def)
		case pg.ConstrType_CONSTR_FOREIGN:
			s.foreignKey(table, []string{def.Colname}, c)
			s.lock(s.nameOf(c.Pktable))
		}
	}
	return key
}

// newTableConstraint reads a constraint of a new table; it is true for a key.
func (s *script) newTableConstraint(create *pg.CreateStmt, table string, c *pg.Constraint) (key bool) {
	switch c.Contype {
	case pg.ConstrType_CONSTR_PRIMARY, pg.ConstrType_CONSTR_UNIQUE:
		columns := namesIn(c.Keys)
		s.keys = append(s.keys, index{table: table, columns: columns, unique: true})
		for _, node := range create.TableElts {
			if def := node.GetColumnDef(); def != nil && len(columns) == 1 && def.Colname == columns[0] {
				s.smallKey(table, def)
			}
		}
		return true
	case pg.ConstrType_CONSTR_FOREIGN:
		s.foreignKey(table, namesIn(c.FkAttrs), c)
		s.lock(s.nameOf(c.Pktable))
	}
	return false
}

func (s *script) smallKey(table string, def *pg.ColumnDef) {
	if slices.Contains(
		[]string{"int4", "int2", "serial", "serial4", "smallserial", "serial2"},
		last(def.TypeName.GetNames()),
	) {
		s.Find("table.small-key", "column "+table+"."+quote(def.Colname), def.Colname, "", "")
	}
}

// columnTypes reads the type of a column that is made.
func (s *script) columnTypes(name string, def *pg.ColumnDef) {
	code := ""
	switch last(def.TypeName.GetNames()) {
	case "timestamp":
		code = "type.no-zone"
	case "bpchar":
		code = "type.padded"
	case "json":
		code = "type.json-text"
	}
	if code != "" && len(def.TypeName.GetNames()) > 0 {
		s.Find(code, "column "+name, def.Colname, "", "")
	}
}

// newPartition reads CREATE TABLE … PARTITION OF, which locks the parent.
func (s *script) newPartition(c *pg.CreateStmt, table string) {
	parent := s.nameOf(c.InhRelations[0].GetRangeVar())
	if !s.InUse(parent) {
		return
	}
	s.lock(parent)
	attach := written(&pg.Node{Node: &pg.Node_AlterTableStmt{AlterTableStmt: &pg.AlterTableStmt{
		Relation: c.InhRelations[0].GetRangeVar(), Objtype: pg.ObjectType_OBJECT_TABLE,
		Cmds: []*pg.Node{{Node: &pg.Node_AlterTableCmd{AlterTableCmd: &pg.AlterTableCmd{
			Subtype: pg.AlterTableType_AT_AttachPartition, Behavior: pg.DropBehavior_DROP_RESTRICT,
			Def: &pg.Node{
				Node: &pg.Node_PartitionCmd{PartitionCmd: &pg.PartitionCmd{Name: c.Relation, Bound: c.Partbound}},
			},
		}}}},
	}}})
	s.FindOn("blocks.new-partition", parent, c.Relation.Relname, "",
		fmt.Sprintf("CREATE TABLE %s (LIKE %s INCLUDING ALL);\n%s", table, parent, attach))
}

func (s *script) createTableAs(c *pg.CreateTableAsStmt) {
	name := s.nameOf(c.Into.GetRel())
	if c.Objtype == pg.ObjectType_OBJECT_MATVIEW {
		s.remade("view", name)
		return
	}
	s.Makes(name)
	if c.Into.GetRel().GetRelpersistence() != "t" {
		s.Find("table.no-key", "table "+name, c.Into.GetRel().GetRelname(), "", "")
	}
}

func (s *script) createIndex(i *pg.IndexStmt) {
	table := s.nameOf(i.Relation)
	if i.Concurrent && i.IfNotExists {
		name := quote(i.Idxname)
		again := proto.Clone(i).(*pg.IndexStmt)
		again.IfNotExists = false
		build := written(&pg.Node{Node: &pg.Node_IndexStmt{IndexStmt: again}})
		s.Find("index.left-invalid", "index "+name, i.Idxname, "", "DROP INDEX CONCURRENTLY IF EXISTS "+name+";\n"+build)
	}
	made := index{table: table, name: quote(i.Idxname), unique: i.Unique}
	plain := i.WhereClause == nil && (i.AccessMethod == "" || i.AccessMethod == "btree")
	for _, node := range i.IndexParams {
		if e := node.GetIndexElem(); plain && e.GetExpr() == nil {
			made.columns = append(made.columns, e.GetName())
		} else {
			plain, made.columns = false, nil
		}
	}
	name := quote(i.Idxname)
	if at := strings.LastIndexByte(table, '.'); at >= 0 {
		name = table[:at+1] + name
	}
	s.Goes("index "+name, table)
	f := s.About("index.covered", "index "+made.name, i.Idxname, "", "")
	made.report = func(other string) {
		f.Message = fmt.Sprintf("the index %s finds by the same columns, and by more", orKey(other))
		s.Add(f)
	}
	s.keys = append(s.keys, made)
	if !s.InUse(table) {
		return
	}
	if i.Unique {
		s.unmetUnique(table, i.Idxname, made.columns)
		s.Find("writers.new-unique", "table "+table, i.Idxname, "", "")
	}
	if i.Concurrent {
		return
	}
	s.lock(table)
	beside := proto.Clone(i).(*pg.IndexStmt)
	beside.Concurrent = true
	s.FindOn("blocks.index-build", table, i.Idxname, "",
		ownStep+written(&pg.Node{Node: &pg.Node_IndexStmt{IndexStmt: beside}}))
}

// orKey names an index; a key of a new table may have none yet.
func orKey(name string) string {
	if name == "" {
		return "of the key"
	}
	return name
}

func (s *script) createFunction(c *pg.CreateFunctionStmt) {
	name := joined(c.Funcname)
	s.remade("function", name)
	definer, fixed := false, false
	for _, node := range c.Options {
		switch e := node.GetDefElem(); e.GetDefname() {
		case "security":
			definer = e.GetArg().GetBoolean().GetBoolval()
		case "set":
			fixed = fixed || e.GetArg().GetVariableSetStmt().GetName() == "search_path"
		}
	}
	if !definer || fixed {
		return
	}
	value := func(name string) *pg.Node {
		return &pg.Node{Node: &pg.Node_AConst{AConst: &pg.A_Const{Val: &pg.A_Const_Sval{Sval: &pg.String{Sval: name}}}}}
	}
	safe := proto.Clone(c).(*pg.CreateFunctionStmt)
	safe.Options = append(safe.Options, &pg.Node{Node: &pg.Node_DefElem{DefElem: &pg.DefElem{
		Defname: "set", Defaction: pg.DefElemAction_DEFELEM_UNSPEC,
		Arg: &pg.Node{Node: &pg.Node_VariableSetStmt{VariableSetStmt: &pg.VariableSetStmt{
			Kind: pg.VariableSetKind_VAR_SET_VALUE, Name: "search_path", Args: []*pg.Node{value("pg_catalog"), value("public")},
		}}},
	}}})
	s.Find("depends.definer-path", "function "+name, last(c.Funcname), "",
		written(&pg.Node{Node: &pg.Node_CreateFunctionStmt{CreateFunctionStmt: safe}}))
}

func (s *script) createTrigger(c *pg.CreateTrigStmt) {
	table := s.nameOf(c.Relation)
	if !s.InUse(table) || c.Replace {
		return
	}
	s.lock(table)
	s.Find("writers.new-trigger", "table "+table, c.Trigname, "", "")
}

func (s *script) grant(g *pg.GrantStmt) {
	if g.Targtype == pg.GrantTargetType_ACL_TARGET_DEFAULTS {
		return
	}
	if !g.IsGrant {
		s.Find("readers.revoke", "", "", "", "")
	}
	for _, node := range g.Grantees {
		role := node.GetRoleSpec()
		if role.GetRoletype() == pg.RoleSpecType_ROLESPEC_PUBLIC && g.IsGrant {
			s.Find("depends.everybody", "", "PUBLIC", "", "")
			continue
		}
		s.role(role)
	}
}

// role is about a role that is named; those that every server has are not.
func (s *script) role(role *pg.RoleSpec) {
	if role.GetRoletype() != pg.RoleSpecType_ROLESPEC_CSTRING || !s.Once("role "+role.GetRolename()) {
		return
	}
	s.Find("depends.role", "role "+quote(role.Rolename), role.Rolename, "", "")
}

func (s *script) set(set *pg.VariableSetStmt) {
	if strings.EqualFold(set.Name, "search_path") {
		s.Find("depends.search-path", "", "", "", "")
	}
}
