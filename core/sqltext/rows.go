package sqltext

import pg "github.com/pganalyze/pg_query_go/v6"

// longest is the longest statement that is parsed to find out what it is about,
// in bytes. Longer ones load rows.
const longest = 1 << 20

// OnlyRows reports whether a statement is about rows only, and changes no
// object of the schema. A statement that calls a function may do anything.
func OnlyRows(s Statement) bool {
	if s.IsCopy || len(s.SQL) > longest {
		return true
	}
	tree, err := pg.Parse(string(s.SQL))
	if err != nil || len(tree.Stmts) != 1 {
		return false
	}
	switch node := tree.Stmts[0].Stmt; {
	case node.GetInsertStmt() != nil, node.GetUpdateStmt() != nil, node.GetDeleteStmt() != nil, node.GetMergeStmt() != nil,
		node.GetTruncateStmt() != nil, node.GetLockStmt() != nil, node.GetVariableSetStmt() != nil, node.GetVacuumStmt() != nil, node.GetTransactionStmt() != nil:
		return true
	}
	return false
}
