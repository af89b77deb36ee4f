package evidence

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"vorrang/core/sqltext"
)

// Kind is a kind of object, in the server's words.
type Kind string

const (
	Schema           Kind = "schema"
	Extension        Kind = "extension"
	Table            Kind = "table"
	View             Kind = "view"
	MaterializedView Kind = "materialized view"
	Sequence         Kind = "sequence"
	Index            Kind = "index"
	Type             Kind = "type" // domains too
	Routine          Kind = "function"
	Column           Kind = "column"     // Of a table
	Constraint       Kind = "constraint" // Of a table
	Trigger          Kind = "trigger"    // Of a table
	Policy           Kind = "policy"     // Of a table
)

// Object is what a statement should have left in the catalogs, or taken out of
// them.
type Object struct {
	Kind   Kind   `json:"kind"`
	Schema string `json:"schema,omitempty" description:"Absent where the script names none."`
	Of     string `json:"of,omitempty" description:"The table that it belongs to."`
	Name   string `json:"name"`

	Gone bool `json:"gone,omitempty" description:"It should not be there."`
	Made bool `json:"made,omitempty" description:"The script creates it."`

	// place in the script
	Statement int `json:"statement" description:"From 1."`
	Line      int `json:"line"`

	// Path is the search path that the script itself had set; nil for the
	// session's.
	Path []string `json:"-"`

	script int // of several, the one that left it
}

// String is "column harbour.vessel.draught_m".
func (o Object) String() string {
	var parts []string
	for _, part := range []string{o.Schema, o.Of, o.Name} {
		if part != "" {
			parts = append(parts, part)
		}
	}
	return string(o.Kind) + " " + strings.Join(parts, ".")
}

// Blind is a statement that leaves nothing that could be looked up.
type Blind struct {
	Statement int    `json:"statement" description:"From 1."`
	Line      int    `json:"line"`
	What      string `json:"what" description:"Such as UPDATE."`
}

// Script is what the statements of a step's file should leave behind.
type Script struct {
	Objects []Object // the net of all statements: what a later one drops is gone
	Blind   []Blind
}

// Read reads a script from a statement on, up to another (both from 1, both
// included; a last of 0 is the end). Statements that the parser refuses are
// blind.
func Read(statements []sqltext.Statement, first, last int) Script {
	r := reader{objects: map[string]Object{}}
	for i, s := range statements {
		r.number, r.line, r.seen = i+1, s.Line, false
		if last > 0 && r.number > last {
			break
		}
		node := parse(s)
		r.silent = r.number < first
		r.statement(node)
		if !r.seen && !r.silent {
			r.blind = append(r.blind, Blind{r.number, r.line, firstWords(s.SQL)})
		}
	}
	script := Script{Blind: r.blind}
	for _, o := range r.objects {
		script.Objects = append(script.Objects, o)
	}
	inPlace(script.Objects)
	return script
}

// inPlace sorts objects by their places in a script.
func inPlace(objects []Object) {
	slices.SortFunc(objects, func(a, b Object) int {
		return cmp.Or(a.Statement-b.Statement, strings.Compare(a.String(), b.String()))
	})
}

// Left is what should be there of each of several scripts after all of them ran, one
// after the other: what a later one drops or renames is nobody's any more.
func Left(scripts [][]sqltext.Statement) [][]Object {
	r := reader{objects: map[string]Object{}}
	for i, statements := range scripts {
		r.script, r.path = i, nil
		for n, s := range statements {
			r.number, r.line = n+1, s.Line
			r.statement(parse(s))
		}
	}
	left := make([][]Object, len(scripts))
	for _, o := range r.objects {
		if !o.Gone {
			left[o.script] = append(left[o.script], o)
		}
	}
	for _, objects := range left {
		inPlace(objects)
	}
	return left
}

func parse(s sqltext.Statement) *pg.Node {
	node, err := sqltext.Parse(s)
	if err != nil {
		return nil // it is blind
	}
	return node
}

// firstWords names a statement by the words that it begins with.
func firstWords(sql []byte) string {
	var words []string
	for field := range strings.FieldsSeq(string(sql[:min(len(sql), 200)])) {
		keyword := strings.TrimFunc(field, func(r rune) bool { return r >= 'A' && r <= 'Z' }) == ""
		if len(words) == 2 || len(words) == 1 && !keyword {
			break
		}
		words = append(words, strings.ToUpper(field))
	}
	return strings.Join(words, " ")
}

// reader walks over a script's statements.
type reader struct {
	// the statement
	script int
	number int
	line   int
	seen   bool // it left something
	silent bool // it stands before the first that counts: only its search path does

	path    []string
	objects map[string]Object
	blind   []Blind
}

func (r *reader) leave(o Object) {
	r.seen = true
	if r.silent {
		return
	}
	o.Statement, o.Line, o.Path, o.script = r.number, r.line, r.path, r.script
	r.objects[o.String()] = o
}

func (r *reader) made(kind Kind, schema, of, name string) {
	if name != "" {
		r.leave(Object{Kind: kind, Schema: schema, Of: of, Name: name, Made: true})
	}
}

func (r *reader) there(kind Kind, schema, of, name string) {
	o := Object{Kind: kind, Schema: schema, Of: of, Name: name}
	if before, known := r.objects[o.String()]; known && !before.Gone {
		r.seen = true // it stays what an earlier statement made of it
		return
	}
	r.leave(o)
}

func (r *reader) gone(kind Kind, schema, of, name string) {
	for key, o := range r.objects { // what belongs to a table goes with it
		if of == "" && o.Of == name && o.Schema == schema {
			delete(r.objects, key)
		}
		if kind == Schema && o.Schema == name {
			delete(r.objects, key)
		}
	}
	r.leave(Object{Kind: kind, Schema: schema, Of: of, Name: name, Gone: true})
}

// statement notes what a statement leaves.
func (r *reader) statement(node *pg.Node) {
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
		r.relation(View, node.GetViewStmt().View)
	case node.GetCreateSeqStmt() != nil:
		r.relation(Sequence, node.GetCreateSeqStmt().Sequence)
	case node.GetIndexStmt() != nil:
		index := node.GetIndexStmt()
		r.made(Index, index.Relation.GetSchemaname(), "", index.Idxname)
	case node.GetCreateSchemaStmt() != nil:
		r.made(Schema, "", "", node.GetCreateSchemaStmt().Schemaname)
		for _, element := range node.GetCreateSchemaStmt().SchemaElts {
			r.statement(element)
		}
	case node.GetCreateExtensionStmt() != nil:
		r.made(Extension, "", "", node.GetCreateExtensionStmt().Extname)
	case node.GetCreateTrigStmt() != nil:
		trigger := node.GetCreateTrigStmt()
		r.made(Trigger, trigger.Relation.GetSchemaname(), trigger.Relation.GetRelname(), trigger.Trigname)
	case node.GetCreatePolicyStmt() != nil:
		policy := node.GetCreatePolicyStmt()
		r.made(Policy, policy.Table.GetSchemaname(), policy.Table.GetRelname(), policy.PolicyName)
	case node.GetCreateFunctionStmt() != nil:
		r.named(Routine, node.GetCreateFunctionStmt().Funcname)
	case node.GetCreateEnumStmt() != nil:
		r.named(Type, node.GetCreateEnumStmt().TypeName)
	case node.GetCreateRangeStmt() != nil:
		r.named(Type, node.GetCreateRangeStmt().TypeName)
	case node.GetCreateDomainStmt() != nil:
		r.named(Type, node.GetCreateDomainStmt().Domainname)
	case node.GetCompositeTypeStmt() != nil:
		r.relation(Type, node.GetCompositeTypeStmt().Typevar)
	case node.GetAlterTableStmt() != nil:
		r.alterTable(node.GetAlterTableStmt())
	case node.GetRenameStmt() != nil:
		r.rename(node.GetRenameStmt())
	case node.GetDropStmt() != nil:
		r.drop(node.GetDropStmt())
	}
}

// set follows the search path, which decides where names without a schema lead.
func (r *reader) set(set *pg.VariableSetStmt) {
	if !strings.EqualFold(set.Name, "search_path") {
		return
	}
	r.seen = true // it says where to look, and is no change of its own
	r.path = nil
	for _, arg := range set.Args {
		r.path = append(r.path, arg.GetAConst().GetSval().GetSval())
	}
}

func relationKind(kind pg.ObjectType) Kind {
	switch kind {
	case pg.ObjectType_OBJECT_VIEW:
		return View
	case pg.ObjectType_OBJECT_MATVIEW:
		return MaterializedView
	case pg.ObjectType_OBJECT_SEQUENCE:
		return Sequence
	case pg.ObjectType_OBJECT_INDEX:
		return Index
	case pg.ObjectType_OBJECT_TYPE, pg.ObjectType_OBJECT_DOMAIN:
		return Type
	case pg.ObjectType_OBJECT_FUNCTION, pg.ObjectType_OBJECT_PROCEDURE, pg.ObjectType_OBJECT_ROUTINE:
		return Routine
	case pg.ObjectType_OBJECT_SCHEMA:
		return Schema
	case pg.ObjectType_OBJECT_EXTENSION:
		return Extension
	case pg.ObjectType_OBJECT_TRIGGER:
		return Trigger
	case pg.ObjectType_OBJECT_POLICY:
		return Policy
	case pg.ObjectType_OBJECT_TABLE, pg.ObjectType_OBJECT_FOREIGN_TABLE:
		return Table
	}
	return ""
}

func (r *reader) relation(kind Kind, rel *pg.RangeVar) {
	if rel.GetRelpersistence() == "t" {
		r.seen = true // a temporary table is gone with the session
		return
	}
	r.made(kind, rel.GetSchemaname(), "", rel.GetRelname())
}

func (r *reader) named(kind Kind, names []*pg.Node) {
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

func (r *reader) createTable(create *pg.CreateStmt) {
	r.relation(Table, create.Relation)
	if create.Relation.GetRelpersistence() == "t" {
		return
	}
	schema, table := create.Relation.GetSchemaname(), create.Relation.GetRelname()
	for _, element := range create.TableElts {
		if column := element.GetColumnDef(); column != nil {
			r.made(Column, schema, table, column.Colname)
		}
		r.made(Constraint, schema, table, element.GetConstraint().GetConname())
	}
}

func (r *reader) alterTable(alter *pg.AlterTableStmt) {
	kind := relationKind(alter.Objtype)
	schema, table := alter.Relation.GetSchemaname(), alter.Relation.GetRelname()
	if kind != "" {
		r.there(kind, schema, "", table)
	}
	for _, node := range alter.Cmds {
		cmd := node.GetAlterTableCmd()
		switch cmd.GetSubtype() {
		case pg.AlterTableType_AT_AddColumn:
			r.made(Column, schema, table, cmd.Def.GetColumnDef().GetColname())
		case pg.AlterTableType_AT_DropColumn:
			r.gone(Column, schema, table, cmd.Name)
		case pg.AlterTableType_AT_AddConstraint:
			r.made(Constraint, schema, table, cmd.Def.GetConstraint().GetConname())
		case pg.AlterTableType_AT_ValidateConstraint:
			r.there(Constraint, schema, table, cmd.Name)
		case pg.AlterTableType_AT_DropConstraint:
			r.gone(Constraint, schema, table, cmd.Name)
		case pg.AlterTableType_AT_ColumnDefault, pg.AlterTableType_AT_SetNotNull, pg.AlterTableType_AT_DropNotNull, pg.AlterTableType_AT_AlterColumnType:
			r.there(Column, schema, table, cmd.Name)
		}
	}
}

func (r *reader) rename(rename *pg.RenameStmt) {
	schema, table := rename.Relation.GetSchemaname(), rename.Relation.GetRelname()
	switch rename.RenameType {
	case pg.ObjectType_OBJECT_COLUMN:
		r.gone(Column, schema, table, rename.Subname)
		r.made(Column, schema, table, rename.Newname)
	case pg.ObjectType_OBJECT_TABCONSTRAINT:
		r.gone(Constraint, schema, table, rename.Subname)
		r.made(Constraint, schema, table, rename.Newname)
	case pg.ObjectType_OBJECT_TABLE, pg.ObjectType_OBJECT_VIEW, pg.ObjectType_OBJECT_MATVIEW, pg.ObjectType_OBJECT_SEQUENCE, pg.ObjectType_OBJECT_INDEX:
		kind := relationKind(rename.RenameType)
		r.gone(kind, schema, "", table)
		r.made(kind, schema, "", rename.Newname)
	case pg.ObjectType_OBJECT_SCHEMA:
		r.gone(Schema, "", "", rename.Subname)
		r.made(Schema, "", "", rename.Newname)
	}
}

func (r *reader) drop(drop *pg.DropStmt) {
	kind := relationKind(drop.RemoveType)
	for _, object := range drop.Objects {
		switch {
		case kind == "":
			return
		case kind == Schema, kind == Extension:
			r.gone(kind, "", "", object.GetString_().GetSval())
		case kind == Trigger, kind == Policy:
			names := object.GetList().GetItems()
			if len(names) < 2 {
				return
			}
			schema, table := qualified(names[:len(names)-1])
			r.gone(kind, schema, table, names[len(names)-1].GetString_().GetSval())
		case kind == Routine:
			schema, name := qualified(object.GetObjectWithArgs().GetObjname())
			r.gone(kind, schema, "", name)
		case kind == Type:
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
func ConcurrentIndex(s sqltext.Statement) (Object, bool) {
	index := parse(s).GetIndexStmt()
	if !index.GetConcurrent() || index.Idxname == "" {
		return Object{}, false
	}
	return Object{Kind: Index, Schema: index.Relation.GetSchemaname(), Name: index.Idxname, Made: true, Line: s.Line}, true
}

// In says where an object stands in a script, for people.
func (o Object) In() string { return fmt.Sprintf("statement %d, line %d", o.Statement, o.Line) }
