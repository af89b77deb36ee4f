package review

import (
	"errors"
	"fmt"

	pg "github.com/pganalyze/pg_query_go/v6"
	"github.com/pganalyze/pg_query_go/v6/parser"

	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// Check returns everything in a step that could not be carried out: text that
// cannot be cut or parsed, transaction control, statements that need another
// mode, and checks that are no queries. Nil means nothing was found.
func Check(s step.Step) step.Problems {
	var problems step.Problems
	problems = append(problems, checkScript(s.Forward, s.Options().Mode)...)
	if s.Options().Mode == step.Batches {
		problems = append(problems, checkBatches(s.Forward)...)
	}
	if s.Back != nil {
		problems = append(problems, checkScript(*s.Back, s.Options().Mode)...)
	}
	if s.Check != nil {
		problems = append(problems, checkQueries(*s.Check)...)
	}
	return problems
}

func checkScript(file step.File, mode step.Mode) step.Problems {
	return eachStatement(file, mode, func(s sqltext.Statement, node *pg.Node) string {
		if s.IsCopy {
			return ""
		}
		return refusal(node, mode)
	})
}

// checkBatches makes sure that a statement that is repeated comes to an end.
func checkBatches(file step.File) step.Problems {
	count := 0
	return eachStatement(file, step.Batches, func(_ sqltext.Statement, node *pg.Node) string {
		if count++; count > 1 {
			return "mode batches repeats one statement; put this one into a step of its own"
		}
		switch {
		case node.GetUpdateStmt() != nil && node.GetUpdateStmt().WhereClause == nil, node.GetDeleteStmt() != nil && node.GetDeleteStmt().WhereClause == nil:
			return "mode batches repeats the statement until it changes no row, and without WHERE that never happens; name the rows that are left, as in " +
				"WHERE id IN (SELECT id FROM … WHERE … IS NULL LIMIT :batch)"
		case node.GetInsertStmt() != nil && len(node.GetInsertStmt().GetSelectStmt().GetSelectStmt().GetFromClause()) == 0:
			return "mode batches repeats the statement until it inserts no row; select the rows that are left FROM somewhere"
		case node.GetUpdateStmt() != nil, node.GetDeleteStmt() != nil, node.GetInsertStmt() != nil, node.GetMergeStmt() != nil:
			return ""
		}
		return "mode batches repeats an UPDATE, DELETE, INSERT or MERGE until it changes no row; for other statements use mode: autocommit or transaction"
	})
}

func checkQueries(file step.File) step.Problems {
	return eachStatement(file, step.Transaction, func(_ sqltext.Statement, node *pg.Node) string {
		if query := node.GetSelectStmt(); query != nil && query.IntoClause == nil {
			return ""
		}
		return "a check holds queries only: each must give one row, with true in every column"
	})
}

// eachStatement cuts and parses a file, and asks look about every statement.
func eachStatement(file step.File, mode step.Mode, look func(sqltext.Statement, *pg.Node) string) step.Problems {
	text := file.Text()
	statements, err := sqltext.Cut(text)
	if err != nil {
		return step.Problems{cutProblem(file.Name, err)}
	}
	if len(statements) == 0 {
		return step.Problems{{File: file.Name, Message: "holds comments, but no statement; write its SQL, or delete the file"}}
	}
	var problems step.Problems
	for _, s := range statements {
		if mode == step.Batches {
			s = s.WithBatch(1) // which moves nothing
		}
		tree, err := pg.Parse(string(s.SQL))
		if err != nil {
			problems = append(problems, parseProblem(file.Name, text, s, err))
			continue
		}
		if len(tree.Stmts) != 1 {
			continue
		}
		if message := look(s, tree.Stmts[0].Stmt); message != "" {
			problems = append(problems, step.Problem{File: file.Name, Line: s.Line, Column: s.Column, Message: message})
		}
	}
	return problems
}

func cutProblem(name string, err error) step.Problem {
	var place *sqltext.Error
	if !errors.As(err, &place) {
		return step.Problem{File: name, Message: err.Error()}
	}
	return step.Problem{File: name, Line: place.Line, Column: place.Column, Message: place.Message}
}

func parseProblem(name string, text []byte, s sqltext.Statement, err error) step.Problem {
	problem := step.Problem{File: name, Line: s.Line, Column: s.Column, Message: err.Error()}
	var refused *parser.Error
	if errors.As(err, &refused) && refused.Cursorpos > 0 {
		problem.Line, problem.Column = step.Position(text, s.Offset+sqltext.CharOffset(s.SQL, refused.Cursorpos))
	}
	return problem
}

// refusal says why a statement cannot run in a mode, or nothing.
func refusal(node *pg.Node, mode step.Mode) string {
	if control := transactionControl(node); control != "" && mode != step.Autocommit {
		return fmt.Sprintf("%s in a step of mode %s: Vorrang opens and ends the transaction itself; "+
			"take it out, or, if the step must control its transactions, set mode: autocommit", control, mode)
	}
	if node.GetTransactionStmt().GetKind() == pg.TransactionStmtKind_TRANS_STMT_PREPARE {
		return "PREPARE TRANSACTION would leave a transaction behind that nobody ends; take it out"
	}
	if what := outsideTransaction(node); what != "" && mode != step.Autocommit {
		return fmt.Sprintf("the server refuses %s inside a transaction; set mode: autocommit in the step's options", what)
	}
	if copied := node.GetCopyStmt(); copied != nil && !copied.IsFrom && copied.Filename == "" && !copied.IsProgram {
		return "COPY … TO STDOUT has nowhere to send its rows; take it out"
	}
	return ""
}

func transactionControl(node *pg.Node) string {
	transaction := node.GetTransactionStmt()
	if transaction == nil {
		return ""
	}
	switch transaction.Kind {
	case pg.TransactionStmtKind_TRANS_STMT_BEGIN, pg.TransactionStmtKind_TRANS_STMT_START:
		return "BEGIN"
	case pg.TransactionStmtKind_TRANS_STMT_COMMIT, pg.TransactionStmtKind_TRANS_STMT_COMMIT_PREPARED:
		return "COMMIT"
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK, pg.TransactionStmtKind_TRANS_STMT_ROLLBACK_PREPARED:
		return "ROLLBACK"
	case pg.TransactionStmtKind_TRANS_STMT_PREPARE:
		return "PREPARE TRANSACTION"
	}
	return "" // savepoints are welcome
}

// outsideTransaction names what the server does only outside a transaction
// block. Source: the PreventInTransactionBlock calls of PostgreSQL 15 to 17.
func outsideTransaction(node *pg.Node) string {
	switch {
	case node.GetIndexStmt().GetConcurrent():
		return "CREATE INDEX CONCURRENTLY"
	case node.GetDropStmt().GetConcurrent():
		return "DROP INDEX CONCURRENTLY"
	case node.GetVacuumStmt() != nil && node.GetVacuumStmt().IsVacuumcmd:
		return "VACUUM"
	case node.GetReindexStmt() != nil:
		return reindexOutside(node.GetReindexStmt())
	case node.GetClusterStmt() != nil && node.GetClusterStmt().Relation == nil:
		return "CLUSTER of all tables"
	case node.GetCreatedbStmt() != nil:
		return "CREATE DATABASE"
	case node.GetDropdbStmt() != nil:
		return "DROP DATABASE"
	case node.GetCreateTableSpaceStmt() != nil:
		return "CREATE TABLESPACE"
	case node.GetDropTableSpaceStmt() != nil:
		return "DROP TABLESPACE"
	case node.GetAlterSystemStmt() != nil:
		return "ALTER SYSTEM"
	case node.GetCreateSubscriptionStmt() != nil:
		return "CREATE SUBSCRIPTION"
	case node.GetDropSubscriptionStmt() != nil:
		return "DROP SUBSCRIPTION"
	case node.GetDiscardStmt().GetTarget() == pg.DiscardMode_DISCARD_ALL:
		return "DISCARD ALL"
	case node.GetAlterTableStmt() != nil:
		return detachOutside(node.GetAlterTableStmt())
	}
	return ""
}

func reindexOutside(reindex *pg.ReindexStmt) string {
	for _, param := range reindex.Params {
		if param.GetDefElem().GetDefname() == "concurrently" {
			return "REINDEX CONCURRENTLY"
		}
	}
	switch reindex.Kind {
	case pg.ReindexObjectType_REINDEX_OBJECT_SCHEMA, pg.ReindexObjectType_REINDEX_OBJECT_DATABASE, pg.ReindexObjectType_REINDEX_OBJECT_SYSTEM:
		return "REINDEX of a schema or database"
	}
	return ""
}

func detachOutside(alter *pg.AlterTableStmt) string {
	for _, node := range alter.Cmds {
		command := node.GetAlterTableCmd()
		detach := command.GetSubtype() == pg.AlterTableType_AT_DetachPartition
		if detach && command.GetDef().GetPartitionCmd().GetConcurrent() {
			return "DETACH PARTITION CONCURRENTLY"
		}
	}
	return ""
}
