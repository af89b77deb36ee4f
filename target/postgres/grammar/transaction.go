package grammar

import (
	pg "github.com/pganalyze/pg_query_go/v6"

	"vorrang/core/sqltext"
)

// Bracket says whether a statement opens or closes a transaction.
type Bracket int

const (
	Neither Bracket = iota
	Opens
	Closes
)

// Transaction says what the statement does to a transaction.
func Transaction(s sqltext.Statement) Bracket {
	if s.IsCopy || len(s.SQL) > 200 {
		return Neither // BEGIN and COMMIT are short
	}
	switch parsed(s).GetTransactionStmt().GetKind() {
	case pg.TransactionStmtKind_TRANS_STMT_BEGIN, pg.TransactionStmtKind_TRANS_STMT_START:
		return Opens
	case pg.TransactionStmtKind_TRANS_STMT_COMMIT,
		pg.TransactionStmtKind_TRANS_STMT_ROLLBACK,
		pg.TransactionStmtKind_TRANS_STMT_PREPARE:
		return Closes
	}
	return Neither
}
