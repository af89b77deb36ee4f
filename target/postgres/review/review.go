package review

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"vorrang/core/review"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/target/postgres/grammar"
)

// Check returns everything in a step that could not be run: text that
// cannot be cut, transaction control, statements that need another mode, checks
// that are no queries. notes is what could not be read, or may go wrong: the
// server decides that. may names what of step.Special the lane lets steps change. Nil
// means nothing was found.
func Check(s step.Step, may []string) (problems, notes step.Problems) {
	r := &reviewer{Files: review.Files{Cut: grammar.Cut}, mode: s.Options().Mode, may: may}
	r.script(&s.Forward, r.mode == step.Batches)
	r.script(s.Back, false)
	r.queries(s.Check)
	return r.Problems, r.Notes
}

type reviewer struct {
	review.Files
	mode step.Mode
	may  []string
}

func (r *reviewer) script(file *step.File, batches bool) {
	var values grammar.NewValues
	r.each(file, func(i int, s sqltext.Statement, node *pg.Node) (refused, noted string) {
		if r.mode == step.Transaction {
			noted = newValue(values.Read(s, node))
		}
		if what := beyond(node); what != "" && noted == "" {
			noted = what + " reaches beyond this database; a scratch database does not run it"
		}
		if grammar.NamesSchema(s, "vorrang") {
			return "this names vorrang, the schema of Vorrang's own ledger; what the ledger says is written by deployments " +
				"and repairs only: take it out", noted
		}
		refused = cmp.Or(refusal(node, r.mode), notAllowed(s, node, r.may))
		if batches && refused == "" {
			refused = endless(i, node)
		}
		return refused, noted
	})
}

// newValue notes that a statement may use a value that the transaction adds.
func newValue(used []string) string {
	if len(used) == 0 {
		return ""
	}
	return fmt.Sprintf(
		"if this is the value %q that was added above, the server refuses it: a new value of an enumeration cannot be "+
			"used in the transaction that adds it; "+
			"put ALTER TYPE into a step of its own",
		used[0],
	)
}

// endless makes sure that a statement that is repeated comes to an end, as far as the
// grammar can read it.
func endless(i int, node *pg.Node) string {
	var c review.Change
	switch {
	case node == nil && i == 0:
		return ""
	case node.GetUpdateStmt() != nil:
		c = review.Change{Verb: "UPDATE", Where: node.GetUpdateStmt().WhereClause != nil}
	case node.GetDeleteStmt() != nil:
		c = review.Change{Verb: "DELETE", Where: node.GetDeleteStmt().WhereClause != nil}
	case node.GetInsertStmt() != nil:
		c = review.Change{
			Verb: "INSERT",
			From: len(node.GetInsertStmt().GetSelectStmt().GetSelectStmt().GetFromClause()) > 0,
		}
	case node.GetMergeStmt() != nil:
		c = review.Change{Verb: "MERGE"}
	}
	return review.Endless(
		i, c,
		"UPDATE, DELETE, INSERT or MERGE",
		"WHERE id IN (SELECT id FROM … WHERE … IS NULL LIMIT "+sqltext.BatchPlace+")",
	)
}

func (r *reviewer) queries(file *step.File) {
	r.each(file, func(_ int, s sqltext.Statement, node *pg.Node) (string, string) {
		if query := node.GetSelectStmt(); node == nil || query != nil && query.IntoClause == nil {
			return notAllowed(s, node, r.may), ""
		}
		return "a check holds queries only: each must give one row, with true in every column", ""
	})
}

// each cuts and parses a file, and asks about every statement why it is refused, and
// what is to be noted. node is nil where the grammar cannot read it, which is noted.
func (r *reviewer) each(file *step.File, ask func(i int, s sqltext.Statement, node *pg.Node) (refused, noted string)) {
	r.Read(file, func(i int, s sqltext.Statement) (refused, noted string) {
		if r.mode == step.Batches {
			s = s.WithBatch(1) // which moves nothing
		}
		node, err := grammar.Parse(s)
		var unparsed *grammar.Unparsed
		if errors.As(err, &unparsed) && !s.IsCopy {
			r.Note(
				file, s, sqltext.CharOffset(s.SQL, unparsed.Position),
				unparsed.Message+"; whether that is right, the server decides",
			)
		}
		refused, noted = ask(i, s, node)
		if refused == "" && unparsed != nil && unparsed.Unread {
			refused = r.unread(s, unparsed)
		}
		if s.IsCopy {
			refused = ""
		}
		return refused, noted
	})
}

// unread says why a statement is refused that was not read to its end: what it changes is not known.
// Rows are data, and a lane that lets its steps change everything is not asked.
func (r *reviewer) unread(s sqltext.Statement, unparsed *grammar.Unparsed) string {
	all := !slices.ContainsFunc(step.Special, func(kind string) bool { return !slices.Contains(r.may, kind) })
	if s.IsCopy || all || grammar.IsData(s.SQL) {
		return ""
	}
	return fmt.Sprintf(
		"%s, and it is not COPY or INSERT … VALUES: whether it changes roles or the server is not known; split it, or an "+
			"administrator declares what steps may change: steps-may: [%s]",
		unparsed.Message, strings.Join(step.Special, ", "),
	)
}

// refusal says why a statement cannot run in a mode, or nothing.
func refusal(node *pg.Node, mode step.Mode) string {
	if control := transactionControl(node); control != "" && mode != step.Autocommit {
		return fmt.Sprintf("%s in a step of mode %s: Vorrang opens and ends the transaction itself; "+
			"take it out, or, if the step must control its transactions, set mode: autocommit", control, mode)
	}
	if message := settingRefused(node.GetVariableSetStmt(), mode); message != "" {
		return message
	}
	if node.GetTransactionStmt().GetKind() == pg.TransactionStmtKind_TRANS_STMT_PREPARE {
		return "PREPARE TRANSACTION would leave a transaction behind that nobody ends; take it out"
	}
	if what := outsideTransaction(node); what != "" && mode != step.Autocommit {
		return fmt.Sprintf(
			"the server refuses %s inside a transaction; set mode: autocommit in the step's options",
			what,
		)
	}
	if copied := node.GetCopyStmt(); copied != nil && !copied.IsFrom && copied.Filename == "" && !copied.IsProgram {
		return "COPY … TO STDOUT has nowhere to send its rows; take it out"
	}
	return ""
}

// settingRefused says why a setting cannot be made by a step.
func settingRefused(set *pg.VariableSetStmt, mode step.Mode) string {
	value := ""
	if len(set.GetArgs()) == 1 {
		value = strings.ToLower(strings.TrimSpace(set.Args[0].GetAConst().GetSval().GetSval()))
	}
	switch name := strings.ToLower(set.GetName()); {
	case name == "client_encoding" && value != "" &&
		strings.ReplaceAll(strings.ReplaceAll(value, "-", ""), "_", "") != "utf8" && value != "unicode":
		return "steps are UTF-8, and are sent as UTF-8; take this out, and save the file as UTF-8"
	case name == "standard_conforming_strings" && saysNo(value):
		return "steps are cut with standard_conforming_strings = on; take this out, and write E'…' for strings with " +
			"backslashes"
	case name == "transaction" && mode != step.Autocommit && readOnly(set):
		return "the step's ledger row is written in its transaction, which can therefore not be read-only; take this out"
	}
	return ""
}

func readOnly(set *pg.VariableSetStmt) bool {
	for _, arg := range set.Args {
		if e := arg.GetDefElem(); e.GetDefname() == "transaction_read_only" &&
			e.GetArg().GetAConst().GetIval().GetIval() == 1 {
			return true
		}
	}
	return false
}

func transactionControl(node *pg.Node) string {
	if body := doBody(node); body != "" && grammar.EndsTransaction(body) {
		return "COMMIT or ROLLBACK in a DO block"
	}
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

// doBody is the body of a DO statement; empty for others.
func doBody(node *pg.Node) string {
	for _, arg := range node.GetDoStmt().GetArgs() {
		if e := arg.GetDefElem(); e.GetDefname() == "as" {
			return e.GetArg().GetString_().GetSval()
		}
	}
	return ""
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
	case node.GetCreateSubscriptionStmt() != nil &&
		!off(node.GetCreateSubscriptionStmt().Options, "create_slot", "connect"):
		return "CREATE SUBSCRIPTION that creates a slot"
	case node.GetAlterDatabaseStmt() != nil && has(node.GetAlterDatabaseStmt().Options, "tablespace"):
		return "ALTER DATABASE … SET TABLESPACE"
	case node.GetDiscardStmt().GetTarget() == pg.DiscardMode_DISCARD_ALL:
		return "DISCARD ALL"
	case node.GetAlterTableStmt() != nil:
		return detachOutside(node.GetAlterTableStmt())
	}
	return ""
}

// has reports whether an option is given.
func has(options []*pg.Node, name string) bool {
	return slices.ContainsFunc(options, func(o *pg.Node) bool { return o.GetDefElem().GetDefname() == name })
}

// off reports whether one of some options is given as false.
func off(options []*pg.Node, names ...string) bool {
	return slices.ContainsFunc(options, func(o *pg.Node) bool {
		return slices.Contains(names, o.GetDefElem().GetDefname()) && isFalse(o.GetDefElem().GetArg())
	})
}

// isFalse reads a boolean as the server's defGetBoolean does.
func isFalse(value *pg.Node) bool {
	switch {
	case value.GetBoolean() != nil:
		return !value.GetBoolean().Boolval
	case value.GetInteger() != nil:
		return value.GetInteger().Ival == 0
	case value.GetString_() != nil:
		return saysNo(strings.ToLower(value.GetString_().Sval))
	}
	return false
}

// saysNo reports whether a word in lower case is one of the server's for false.
func saysNo(word string) bool { return slices.Contains([]string{"false", "off", "no", "0"}, word) }

func reindexOutside(reindex *pg.ReindexStmt) string {
	if has(reindex.Params, "concurrently") && !off(reindex.Params, "concurrently") {
		return "REINDEX CONCURRENTLY"
	}
	switch reindex.Kind {
	case pg.ReindexObjectType_REINDEX_OBJECT_SCHEMA,
		pg.ReindexObjectType_REINDEX_OBJECT_DATABASE,
		pg.ReindexObjectType_REINDEX_OBJECT_SYSTEM:
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
