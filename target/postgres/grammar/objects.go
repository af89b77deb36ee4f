package grammar

import (
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"vorrang/core/evidence"
	"vorrang/core/sqltext"
)

// Read reads a script from a statement on, up to another (both from 1, both
// included; a last of 0 is the end). Statements that the parser refuses are
// blind.
func Read(statements []sqltext.Statement, first, last int) evidence.Script {
	return evidence.Collect(statements, first, last, leaves)
}

// Left is what should be there of each of several scripts after all of them ran, one
// after the other: what a later one drops or renames is nobody's any more.
func Left(scripts [][]sqltext.Statement) [][]evidence.Object {
	return evidence.CollectLeft(scripts, leaves)
}

func leaves(net *evidence.Net, s sqltext.Statement) { reader{net}.statement(parsed(s)) }

// reader tells a net what one statement leaves.
type reader struct{ net *evidence.Net }

func (r reader) made(kind evidence.Kind, schema, of, name string) {
	r.net.Made(evidence.Object{Kind: kind, Schema: schema, Of: of, Name: name})
}

func (r reader) there(kind evidence.Kind, schema, of, name string) {
	r.net.There(evidence.Object{Kind: kind, Schema: schema, Of: of, Name: name})
}

func (r reader) gone(kind evidence.Kind, schema, of, name string) {
	r.net.Gone(evidence.Object{Kind: kind, Schema: schema, Of: of, Name: name})
}

// statement notes what a statement leaves.
func (r reader) statement(node *pg.Node) {
	switch {
	case node == nil:
	case node.GetVariableSetStmt() != nil:
		r.set(node.GetVariableSetStmt())
	case node.GetCreateStmt() != nil:
		r.createTable(node.GetCreateStmt())
	case node.GetCreateForeignTableStmt() != nil:
		r.createTable(node.GetCreateForeignTableStmt().BaseStmt)
	case node.GetCreateTableAsStmt() != nil:
		create := node.GetCreateTableAsStmt()
		r.relation(relationKind(create.Objtype), create.Into.GetRel())
	case node.GetViewStmt() != nil:
		r.relation(evidence.View, node.GetViewStmt().View)
	case node.GetCreateSeqStmt() != nil:
		r.relation(evidence.Sequence, node.GetCreateSeqStmt().Sequence)
	case node.GetIndexStmt() != nil:
		index := node.GetIndexStmt()
		r.made(evidence.Index, index.Relation.GetSchemaname(), "", index.Idxname)
	case node.GetCreateSchemaStmt() != nil:
		r.made(evidence.Schema, "", "", node.GetCreateSchemaStmt().Schemaname)
		for _, element := range node.GetCreateSchemaStmt().SchemaElts {
			r.statement(element)
		}
	case node.GetCreateExtensionStmt() != nil:
		r.made(evidence.Extension, "", "", node.GetCreateExtensionStmt().Extname)
	case node.GetCreateTrigStmt() != nil:
		trigger := node.GetCreateTrigStmt()
		r.made(evidence.Trigger, trigger.Relation.GetSchemaname(), trigger.Relation.GetRelname(), trigger.Trigname)
	case node.GetCreatePolicyStmt() != nil:
		policy := node.GetCreatePolicyStmt()
		r.made(evidence.Policy, policy.Table.GetSchemaname(), policy.Table.GetRelname(), policy.PolicyName)
	case node.GetCreateFunctionStmt() != nil:
		r.named(evidence.Routine, node.GetCreateFunctionStmt().Funcname)
	case node.GetCreateEnumStmt() != nil:
		r.named(evidence.Type, node.GetCreateEnumStmt().TypeName)
	case node.GetCreateRangeStmt() != nil:
		r.named(evidence.Type, node.GetCreateRangeStmt().TypeName)
	case node.GetCreateDomainStmt() != nil:
		r.named(evidence.Type, node.GetCreateDomainStmt().Domainname)
	case node.GetCompositeTypeStmt() != nil:
		r.relation(evidence.Type, node.GetCompositeTypeStmt().Typevar)
	case node.GetAlterTableStmt() != nil:
		r.alterTable(node.GetAlterTableStmt())
	case node.GetRenameStmt() != nil:
		r.rename(node.GetRenameStmt())
	case node.GetDropStmt() != nil:
		r.drop(node.GetDropStmt())
	}
}

// set follows the search path, which decides where names without a schema lead.
func (r reader) set(set *pg.VariableSetStmt) {
	if !strings.EqualFold(set.Name, "search_path") {
		return
	}
	var path []string
	for _, arg := range set.Args {
		path = append(path, arg.GetAConst().GetSval().GetSval())
	}
	r.net.Searches(path) // it says where to look, and is no change of its own
}

func relationKind(kind pg.ObjectType) evidence.Kind {
	switch kind {
	case pg.ObjectType_OBJECT_VIEW:
		return evidence.View
	case pg.ObjectType_OBJECT_MATVIEW:
		return evidence.MaterializedView
	case pg.ObjectType_OBJECT_SEQUENCE:
		return evidence.Sequence
	case pg.ObjectType_OBJECT_INDEX:
		return evidence.Index
	case pg.ObjectType_OBJECT_TYPE, pg.ObjectType_OBJECT_DOMAIN:
		return evidence.Type
	case pg.ObjectType_OBJECT_FUNCTION, pg.ObjectType_OBJECT_PROCEDURE, pg.ObjectType_OBJECT_ROUTINE:
		return evidence.Routine
	case pg.ObjectType_OBJECT_SCHEMA:
		return evidence.Schema
	case pg.ObjectType_OBJECT_EXTENSION:
		return evidence.Extension
	case pg.ObjectType_OBJECT_TRIGGER:
		return evidence.Trigger
	case pg.ObjectType_OBJECT_POLICY:
		return evidence.Policy
	case pg.ObjectType_OBJECT_TABLE, pg.ObjectType_OBJECT_FOREIGN_TABLE:
		return evidence.Table
	}
	return ""
}

func (r reader) relation(kind evidence.Kind, rel *pg.RangeVar) {
	if rel.GetRelpersistence() == "t" {
		r.net.Nothing() // a temporary table is gone with the session
		return
	}
	r.made(kind, rel.GetSchemaname(), "", rel.GetRelname())
}

func (r reader) named(kind evidence.Kind, names []*pg.Node) {
	schema, name := qualified(names)
	r.made(kind, schema, "", name)
}

// qualified takes a list of strings apart: an optional schema, and a name.
func qualified(names []*pg.Node) (schema, name string) {
	for _, n := range names {
		schema, name = name, n.GetString_().GetSval()
	}
	return schema, name
}

func (r reader) createTable(create *pg.CreateStmt) {
	r.relation(evidence.Table, create.Relation)
	if create.Relation.GetRelpersistence() == "t" {
		return
	}
	schema, table := create.Relation.GetSchemaname(), create.Relation.GetRelname()
	for _, element := range create.TableElts {
		if column := element.GetColumnDef(); column != nil {
			r.made(evidence.Column, schema, table, column.Colname)
		}
		r.made(evidence.Constraint, schema, table, element.GetConstraint().GetConname())
	}
}

func (r reader) alterTable(alter *pg.AlterTableStmt) {
	kind := relationKind(alter.Objtype)
	schema, table := alter.Relation.GetSchemaname(), alter.Relation.GetRelname()
	if kind != "" {
		r.there(kind, schema, "", table)
	}
	for _, node := range alter.Cmds {
		cmd := node.GetAlterTableCmd()
		switch cmd.GetSubtype() {
		case pg.AlterTableType_AT_AddColumn:
			r.made(evidence.Column, schema, table, cmd.Def.GetColumnDef().GetColname())
		case pg.AlterTableType_AT_DropColumn:
			r.gone(evidence.Column, schema, table, cmd.Name)
		case pg.AlterTableType_AT_AddConstraint:
			r.made(evidence.Constraint, schema, table, cmd.Def.GetConstraint().GetConname())
		case pg.AlterTableType_AT_ValidateConstraint:
			r.there(evidence.Constraint, schema, table, cmd.Name)
		case pg.AlterTableType_AT_DropConstraint:
			r.gone(evidence.Constraint, schema, table, cmd.Name)
		case pg.AlterTableType_AT_ColumnDefault,
			pg.AlterTableType_AT_SetNotNull, pg.AlterTableType_AT_DropNotNull,
			pg.AlterTableType_AT_AlterColumnType:
			r.there(evidence.Column, schema, table, cmd.Name)
		}
	}
}

func (r reader) rename(rename *pg.RenameStmt) {
	schema, table := rename.Relation.GetSchemaname(), rename.Relation.GetRelname()
	switch rename.RenameType {
	case pg.ObjectType_OBJECT_COLUMN:
		r.gone(evidence.Column, schema, table, rename.Subname)
		r.made(evidence.Column, schema, table, rename.Newname)
	case pg.ObjectType_OBJECT_TABCONSTRAINT:
		r.gone(evidence.Constraint, schema, table, rename.Subname)
		r.made(evidence.Constraint, schema, table, rename.Newname)
	case pg.ObjectType_OBJECT_TABLE,
		pg.ObjectType_OBJECT_VIEW, pg.ObjectType_OBJECT_MATVIEW, pg.ObjectType_OBJECT_SEQUENCE,
		pg.ObjectType_OBJECT_INDEX:
		kind := relationKind(rename.RenameType)
		r.gone(kind, schema, "", table)
		r.made(kind, schema, "", rename.Newname)
	case pg.ObjectType_OBJECT_SCHEMA:
		r.gone(evidence.Schema, "", "", rename.Subname)
		r.made(evidence.Schema, "", "", rename.Newname)
	}
}

func (r reader) drop(drop *pg.DropStmt) {
	kind := relationKind(drop.RemoveType)
	for _, object := range drop.Objects {
		switch {
		case kind == "":
			return
		case kind == evidence.Schema, kind == evidence.Extension:
			r.gone(kind, "", "", object.GetString_().GetSval())
		case kind == evidence.Trigger, kind == evidence.Policy:
			names := object.GetList().GetItems()
			if len(names) < 2 {
				return
			}
			schema, table := qualified(names[:len(names)-1])
			r.gone(kind, schema, table, names[len(names)-1].GetString_().GetSval())
		case kind == evidence.Routine:
			schema, name := qualified(object.GetObjectWithArgs().GetObjname())
			r.gone(kind, schema, "", name)
		case kind == evidence.Type:
			schema, name := qualified(object.GetTypeName().GetNames())
			r.gone(kind, schema, "", name)
		default:
			schema, name := qualified(object.GetList().GetItems())
			r.gone(kind, schema, "", name)
		}
	}
}

// ConcurrentIndex is the index that a statement builds concurrently, in the
// form in which SQL names it, quoted where needed; false if it builds none, or
// leaves the name to the server. Such a build that fails leaves an index behind
// that is marked invalid.
func ConcurrentIndex(s sqltext.Statement) (evidence.Object, bool) {
	index := parsed(s).GetIndexStmt()
	if !index.GetConcurrent() || index.Idxname == "" {
		return evidence.Object{}, false
	}
	return evidence.Object{
		Kind:   evidence.Index,
		Schema: index.Relation.GetSchemaname(),
		Name:   index.Idxname,
		Made:   true,
		Line:   s.Line,
	}, true
}
