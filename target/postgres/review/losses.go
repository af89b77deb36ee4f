package review

import (
	"fmt"

	"vorrang/core/review"
	"vorrang/target/postgres/grammar"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// Losses lists what a script takes away that no other script can bring back:
// the rows and values that were there, as opposed to the objects that held
// them. Statements inside functions and DO blocks are not looked into.
func Losses(text []byte) []review.Loss {
	statements, err := grammar.Cut(text)
	if err != nil {
		return nil // such a script is refused when it is submitted
	}
	var losses []review.Loss
	for _, s := range statements {
		node, err := grammar.Parse(s.WithBatch(1))
		if err != nil {
			continue
		}
		for _, what := range lost(node) {
			losses = append(losses, review.Loss{Line: s.Line, What: what})
		}
	}
	return losses
}

func lost(node *pg.Node) []string {
	var all []string
	for _, with := range []*pg.WithClause{
		node.GetSelectStmt().GetWithClause(), node.GetInsertStmt().GetWithClause(), node.GetUpdateStmt().GetWithClause(),
		node.GetDeleteStmt().GetWithClause(), node.GetMergeStmt().GetWithClause(),
	} {
		for _, cte := range with.GetCtes() {
			all = append(all, lost(cte.GetCommonTableExpr().GetCtequery())...)
		}
	}
	return append(all, lostByItself(node)...)
}

func lostByItself(node *pg.Node) []string {
	switch {
	case node.GetDropStmt() != nil:
		return dropped(node.GetDropStmt())
	case node.GetAlterTableStmt() != nil:
		return altered(node.GetAlterTableStmt())
	case node.GetTruncateStmt() != nil:
		var all []string
		for _, relation := range node.GetTruncateStmt().Relations {
			all = append(all, "empties the table "+named(relation.GetRangeVar()))
		}
		return all
	case node.GetDeleteStmt() != nil:
		return []string{"deletes rows of " + named(node.GetDeleteStmt().Relation)}
	case node.GetUpdateStmt() != nil:
		return []string{"overwrites values of " + named(node.GetUpdateStmt().Relation)}
	case node.GetInsertStmt().GetOnConflictClause().GetAction() == pg.OnConflictAction_ONCONFLICT_UPDATE:
		return []string{
			"overwrites values of rows of " + named(node.GetInsertStmt().Relation) + " that have the same key",
		}
	case node.GetMergeStmt() != nil:
		return []string{"overwrites or deletes rows of " + named(node.GetMergeStmt().Relation)}
	}
	return nil
}

func named(relation *pg.RangeVar) string {
	if relation.GetSchemaname() != "" {
		return relation.Schemaname + "." + relation.Relname
	}
	return relation.GetRelname()
}

func dropped(drop *pg.DropStmt) []string {
	word := ""
	switch drop.RemoveType {
	case pg.ObjectType_OBJECT_TABLE:
		word = "table"
	case pg.ObjectType_OBJECT_SEQUENCE:
		word = "sequence"
	case pg.ObjectType_OBJECT_SCHEMA:
		word = "schema"
	default:
		return nil // what else can be dropped holds no rows
	}
	var all []string
	for _, object := range drop.Objects {
		name := object.GetString_().GetSval()
		for i, part := range object.GetList().GetItems() {
			if i > 0 {
				name += "."
			}
			name += part.GetString_().GetSval()
		}
		all = append(all, fmt.Sprintf("drops the %s %s", word, name))
	}
	return all
}

func altered(alter *pg.AlterTableStmt) []string {
	var all []string
	for _, node := range alter.Cmds {
		cmd := node.GetAlterTableCmd()
		switch cmd.GetSubtype() {
		case pg.AlterTableType_AT_DropColumn:
			all = append(all, fmt.Sprintf("drops the column %s.%s", named(alter.Relation), cmd.Name))
		case pg.AlterTableType_AT_AlterColumnType:
			all = append(all, fmt.Sprintf("rewrites the column %s.%s in another type", named(alter.Relation), cmd.Name))
		}
	}
	return all
}
