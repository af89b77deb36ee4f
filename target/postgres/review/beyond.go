package review

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"vorrang/target/postgres/grammar"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// Beyond says what of a script reaches beyond its database: other databases, the
// server, its files and programs, roles, other servers. Such a script is not run
// in a scratch database, whose server holds others. It is empty where nothing
// does. What the grammar cannot read, and a name that is hidden in dynamic SQL, is
// not seen.
func Beyond(text []byte) string {
	statements, err := grammar.Cut(text)
	if err != nil {
		return "" // which the server says as well
	}
	for _, s := range statements {
		if found := beyondNames.Find(s.SQL); found != nil {
			return fmt.Sprintf(
				"line %d uses %s, which reaches beyond the database",
				s.Line, strings.ToLower(string(found)),
			)
		}
		node, err := grammar.Parse(s)
		var unparsed *grammar.Unparsed
		if errors.As(err, &unparsed) && unparsed.Unread && !grammar.IsData(s.SQL) {
			return fmt.Sprintf("line %d: %s, so it may reach beyond the database", s.Line, unparsed.Message)
		}
		if err != nil {
			continue
		}
		if what := beyond(node); what != "" {
			return fmt.Sprintf("line %d: %s reaches beyond the database", s.Line, what)
		}
	}
	return ""
}

// Leaves says what of a schema's own text could leave its database later, when a trial's step sets it
// off: a trigger or a function that calls another server, a program or a file, a subscription. It
// is empty where nothing does. A foreign server may stay: what a copy has no user mapping for, it cannot
// reach.
func Leaves(text []byte) string {
	statements, err := grammar.Cut(text)
	if err != nil {
		return "" // which the server says as well
	}
	for _, s := range statements {
		if found := leavingNames.Find(s.SQL); found != nil {
			return fmt.Sprintf("line %d uses %s", s.Line, strings.ToLower(string(found)))
		}
		node, err := grammar.Parse(s)
		var unparsed *grammar.Unparsed
		switch {
		case errors.As(err, &unparsed) && unparsed.Unread && !grammar.IsData(s.SQL):
			return fmt.Sprintf("line %d: %s", s.Line, unparsed.Message)
		case node.GetCreateSubscriptionStmt() != nil, node.GetAlterSubscriptionStmt() != nil,
			node.GetDropSubscriptionStmt() != nil:
			return fmt.Sprintf("line %d: a subscription", s.Line)
		case node.GetCreateUserMappingStmt() != nil, node.GetAlterUserMappingStmt() != nil:
			return fmt.Sprintf("line %d: a user mapping", s.Line)
		case node.GetImportForeignSchemaStmt() != nil:
			return fmt.Sprintf("line %d: IMPORT FOREIGN SCHEMA", s.Line)
		case node.GetCopyStmt().GetIsProgram():
			return fmt.Sprintf("line %d: COPY with a program", s.Line)
		}
	}
	return ""
}

// leavingNames are those of beyondNames that write, or run programs.
var leavingNames = regexp.MustCompile(
	`(?i)\b(?:dblink\w*|pg_file_\w+|lo_export|adminpack|pg_execute_server_program|COPY\s[^;]*\bPROGRAM\b|pg_reload_conf|` +
		`pg_rotate_logfile|pg_terminate_backend|pg_cancel_backend|plpython3?u|plperlu|pltclu)\b`,
)

// beyondNames are functions and extensions that reach files, programs or servers,
// wherever in a statement, a string or a body they stand.
var beyondNames = regexp.MustCompile(
	`(?i)\b(?:pg_read_file|pg_read_binary_file|pg_ls_dir|pg_ls_\w+dir|pg_stat_file|pg_file_\w+|lo_import|lo_export|dblink\w*|` +
		`file_fdw|postgres_fdw|adminpack|pg_execute_server_program|pg_reload_conf|pg_rotate_logfile|pg_terminate_backend|pg_cancel_backend|plpython3?u|plperlu|pltclu)\b`,
)

// changesRole reports whether a statement changes who there is on the server, or who may act as whom.
func changesRole(node *pg.Node) bool {
	return node.GetCreateRoleStmt() != nil || node.GetAlterRoleStmt() != nil || node.GetAlterRoleSetStmt() != nil ||
		node.GetDropRoleStmt() != nil ||
		node.GetGrantRoleStmt() != nil ||
		node.GetReassignOwnedStmt() != nil ||
		node.GetDropOwnedStmt() != nil
}

func beyond(node *pg.Node) string {
	switch {
	case node.GetCreatedbStmt() != nil,
		node.GetDropdbStmt() != nil, node.GetAlterDatabaseStmt() != nil,
		node.GetAlterDatabaseSetStmt() != nil:
		return "a database that is made, changed or dropped"
	case node.GetAlterSystemStmt() != nil:
		return "ALTER SYSTEM"
	case changesRole(node):
		return "a role that is made, changed or dropped"
	case node.GetCreateTableSpaceStmt() != nil, node.GetDropTableSpaceStmt() != nil:
		return "a tablespace"
	case node.GetCreateForeignServerStmt() != nil,
		node.GetCreateUserMappingStmt() != nil, node.GetCreateSubscriptionStmt() != nil,
		node.GetAlterSubscriptionStmt() != nil, node.GetDropSubscriptionStmt() != nil,
		node.GetAlterForeignServerStmt() != nil, node.GetAlterUserMappingStmt() != nil,
		node.GetCreateFdwStmt() != nil, node.GetImportForeignSchemaStmt() != nil:
		return "another server"
	case node.GetLoadStmt() != nil:
		return "LOAD"
	case node.GetCopyStmt().GetIsProgram():
		return "COPY with a program"
	case node.GetCopyStmt().GetFilename() != "":
		return "COPY with a file of the server"
	}
	create := node.GetCreateFunctionStmt()
	if create == nil {
		return ""
	}
	for _, option := range create.Options {
		language := option.GetDefElem()
		if language.GetDefname() == "language" &&
			slices.Contains([]string{"c", "internal"}, strings.ToLower(language.GetArg().GetString_().GetSval())) {
			return "a function in C"
		}
	}
	return ""
}
