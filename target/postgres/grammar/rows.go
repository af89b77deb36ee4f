package grammar

import "vorrang/core/sqltext"

// OnlyRows reports whether a statement is about rows only, and changes no
// object of the schema. A statement that calls a function may do anything.
func OnlyRows(s sqltext.Statement) bool {
	if s.IsCopy || len(s.SQL) > mostParsed { // longer ones load rows
		return true
	}
	switch node := parsed(s); {
	case node == nil:
		return false
	case node.GetInsertStmt() != nil,
		node.GetUpdateStmt() != nil, node.GetDeleteStmt() != nil, node.GetMergeStmt() != nil,
		node.GetTruncateStmt() != nil, node.GetLockStmt() != nil, node.GetVariableSetStmt() != nil,
		node.GetVacuumStmt() != nil,
		node.GetTransactionStmt() != nil:
		return true
	}
	return false
}
