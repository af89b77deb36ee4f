package sqltext

import (
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// Literal quotes a text so that it means the same whatever the session's
// standard_conforming_strings.
func Literal(text string) string {
	quoted := "'" + strings.ReplaceAll(text, "'", "''") + "'"
	if strings.Contains(text, `\`) {
		return "E" + strings.ReplaceAll(quoted, `\`, `\\`)
	}
	return quoted
}

// Identifier quotes a name.
func Identifier(name string) string {
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// Bracket says whether a statement opens or closes a transaction.
type Bracket int

const (
	Neither Bracket = iota
	Opens
	Closes
)

// Transaction says what the statement does to a transaction.
func (s Statement) Transaction() Bracket {
	if s.IsCopy || len(s.SQL) > 200 {
		return Neither // BEGIN and COMMIT are short
	}
	switch parsed(s).GetTransactionStmt().GetKind() {
	case pg.TransactionStmtKind_TRANS_STMT_BEGIN, pg.TransactionStmtKind_TRANS_STMT_START:
		return Opens
	case pg.TransactionStmtKind_TRANS_STMT_COMMIT, pg.TransactionStmtKind_TRANS_STMT_ROLLBACK, pg.TransactionStmtKind_TRANS_STMT_PREPARE:
		return Closes
	}
	return Neither
}
