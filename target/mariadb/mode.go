package mariadb

import (
	"slices"
	"strings"

	"vorrang/core/schema"
)

// usualMode is the server's own default, which most bodies are made with.
// Source: https://mariadb.com/kb/en/sql-mode/
const usualMode = "ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_CREATE_USER,NO_ENGINE_SUBSTITUTION,STRICT_TRANS_TABLES"

// noMode is an empty one.
const noMode = "none"

// unusual is an sql_mode, its words in order; empty for the usual one.
func unusual(mode string) string {
	all := strings.Split(mode, ",")
	slices.Sort(all)
	switch sorted := strings.Join(all, ","); sorted {
	case usualMode:
		return ""
	case "":
		return noMode
	default:
		return sorted
	}
}

// modes reports whether any body was made with an sql_mode that is not the usual one: then each is
// made with its own, whatever the session's is.
func (d *drafter) modes() (bodies bool) {
	for _, all := range []map[string]schema.Object{d.before, d.after} {
		for _, o := range all {
			bodies = bodies || o.Props[schema.SQLMode] != ""
		}
	}
	return bodies
}

// readsOtherwise reports whether a text is read in another way by an sql_mode.
func readsOtherwise(mode string) bool {
	return slices.ContainsFunc(strings.Split(mode, ","), func(one string) bool {
		return slices.Contains([]string{"ANSI_QUOTES", "ANSI", "NO_BACKSLASH_ESCAPES", "ORACLE", "IGNORE_SPACE"}, one)
	})
}

// withMode makes a body with an sql_mode.
func withMode(mode, sql string) string {
	switch mode {
	case "":
		mode = usualMode
	case noMode:
		mode = ""
	}
	return "SET STATEMENT sql_mode = " + literal(mode) + " FOR " + sql
}
