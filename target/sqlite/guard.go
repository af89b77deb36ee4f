package sqlite

import (
	"fmt"
	"slices"
	"strings"

	sqlite3 "github.com/mattn/go-sqlite3"

	"vorrang/target/words"
)

// guard is asked by SQLite before each action of each statement that is prepared,
// whatever text led to it.
// Source: https://www.sqlite.org/c3ref/set_authorizer.html
type guard struct {
	ours      bool // the package's own statements
	vacuuming bool // VACUUM runs, which copies all tables into a temporary file that it attaches
	controls  bool // statements may open and end transactions
	refused   string
}

func (g *guard) allow(action int, first, second, schema string) int {
	if g.ours {
		return sqlite3.SQLITE_OK
	}
	if why := g.why(action, first, second, schema); why != "" {
		g.refused = why
		return sqlite3.SQLITE_DENY
	}
	return sqlite3.SQLITE_OK
}

// recursive is a query that WITH RECURSIVE makes; the library does not name it.
const recursive = 33

// onlyItsFile is why what reaches for another file is refused.
const onlyItsFile = "a step reaches its target's file only"

// why says why an action is refused; empty for one that is not. An action that it does not
// know is refused. SQLite gives no name for a file that is computed, so ATTACH is refused
// whatever it names; the connection's limit refuses it once more.
func (g *guard) why(action int, first, second, schema string) string {
	file := schema
	if action == sqlite3.SQLITE_ALTER_TABLE { // which names the file first, and a column last
		file = first
	}
	switch file {
	case "", "main", "temp":
	default:
		if g.vacuuming {
			return ""
		}
		return onlyItsFile + "; " + file + " is another"
	}
	switch action {
	case sqlite3.SQLITE_ATTACH:
		if !g.vacuuming || first != "" { // VACUUM's temporary file has no name
			return strings.TrimSuffix(onlyItsFile+"; "+first+" is another", ";  is another")
		}
	case sqlite3.SQLITE_DETACH:
		return onlyItsFile + ", and has no other to detach"
	case sqlite3.SQLITE_READ, sqlite3.SQLITE_SELECT, sqlite3.SQLITE_ANALYZE,
		sqlite3.SQLITE_REINDEX, sqlite3.SQLITE_SAVEPOINT, recursive:
	case sqlite3.SQLITE_FUNCTION:
		if strings.EqualFold(second, "load_extension") {
			return "extensions are not loaded"
		}
	case sqlite3.SQLITE_PRAGMA:
		return g.whyPragma(strings.ToLower(first), second)
	case sqlite3.SQLITE_TRANSACTION:
		if !g.controls {
			return first + " in a step of mode transaction: Vorrang opens and ends the transaction itself"
		}
	case sqlite3.SQLITE_INSERT, sqlite3.SQLITE_UPDATE, sqlite3.SQLITE_DELETE:
		if words.IsOurs(first) {
			return "the ledger is written by deployments and repairs only"
		}
	case sqlite3.SQLITE_CREATE_TABLE, sqlite3.SQLITE_CREATE_INDEX, sqlite3.SQLITE_CREATE_VIEW,
		sqlite3.SQLITE_CREATE_TRIGGER, sqlite3.SQLITE_CREATE_VTABLE, sqlite3.SQLITE_CREATE_TEMP_TABLE,
		sqlite3.SQLITE_CREATE_TEMP_INDEX, sqlite3.SQLITE_CREATE_TEMP_VIEW, sqlite3.SQLITE_CREATE_TEMP_TRIGGER,
		sqlite3.SQLITE_DROP_TABLE, sqlite3.SQLITE_DROP_INDEX, sqlite3.SQLITE_DROP_VIEW,
		sqlite3.SQLITE_DROP_TRIGGER, sqlite3.SQLITE_DROP_VTABLE, sqlite3.SQLITE_DROP_TEMP_TABLE,
		sqlite3.SQLITE_DROP_TEMP_INDEX, sqlite3.SQLITE_DROP_TEMP_VIEW, sqlite3.SQLITE_DROP_TEMP_TRIGGER,
		sqlite3.SQLITE_ALTER_TABLE: // which names the table second
		if words.IsOurs(first) || words.IsOurs(second) {
			return "names that begin with vorrang_ are the ledger's"
		}
	default:
		return fmt.Sprintf("SQLite asks for something that Vorrang does not know (action %d), so it is refused", action)
	}
	return ""
}

// harmless are the pragmas that tell something, or that change rows' or the schema's
// notes only; settings last for the step's session.
var (
	harmless = []string{
		"user_version", "application_id", "foreign_key_check", "foreign_key_list", "table_info", "table_xinfo",
		"table_list", "index_info", "index_xinfo", "index_list", "integrity_check", "quick_check", "optimize",
		"analysis_limit", "compile_options", "collation_list", "function_list", "encoding", "page_count",
		"freelist_count", "incremental_vacuum",
	}
	settings = []string{
		"defer_foreign_keys", "recursive_triggers", "legacy_alter_table",
		"reverse_unordered_selects",
		"automatic_index", "cache_size", "temp_store", "ignore_check_constraints",
	}
	// outside lists what has no effect within a transaction.
	outside = []string{"foreign_keys", "auto_vacuum", "page_size", "wal_checkpoint"}
	// only read, not set
	telling = []string{"journal_mode", "synchronous", "locking_mode", "busy_timeout", "schema_version", "data_version"}
)

func (g *guard) whyPragma(name, value string) string {
	switch {
	case slices.Contains(harmless, name), slices.Contains(settings, name), g.controls && slices.Contains(outside, name):
		return ""
	case slices.Contains(outside, name):
		return fmt.Sprintf(
			"PRAGMA %s has no effect inside a transaction; set mode: autocommit in the step's options",
			name,
		)
	case slices.Contains(telling, name) && value == "":
		return ""
	}
	return fmt.Sprintf("PRAGMA %s is not for steps: it can damage the file, or belongs to its owner", name)
}
