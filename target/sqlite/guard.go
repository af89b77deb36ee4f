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
	ours     bool // the package's own statements
	reading  bool // nothing may change
	controls bool // statements may open and end transactions
	refused  string
}

func (g *guard) allow(action int, first, second, schema string) int {
	if g.ours || strings.HasPrefix(schema, "vacuum_") { // VACUUM copies all tables into a temporary file
		return sqlite3.SQLITE_OK
	}
	if why := g.why(action, first, second); why != "" {
		g.refused = why
		return sqlite3.SQLITE_DENY
	}
	return sqlite3.SQLITE_OK
}

// why says why an action is refused; empty for one that is not.
func (g *guard) why(action int, first, second string) string {
	switch action {
	case sqlite3.SQLITE_ATTACH:
		if first != "" { // VACUUM attaches a temporary file without a name
			return "a step reaches its target's file only; " + first + " is another"
		}
	case sqlite3.SQLITE_DETACH,
		sqlite3.SQLITE_READ, sqlite3.SQLITE_SELECT, sqlite3.SQLITE_ANALYZE,
		sqlite3.SQLITE_REINDEX:
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
	default: // what makes, alters or drops an object; ALTER TABLE names the table second
		if words.IsOurs(first) || words.IsOurs(second) {
			return "names that begin with vorrang_ are the ledger's"
		}
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
