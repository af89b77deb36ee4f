package mariadb

import (
	"strings"

	"vorrang/core/sqltext"
	"vorrang/target/words"
)

// reach is what a statement, or a body in it, reaches beyond its database: empty for nothing that
// its words show. A text that is put together while it runs is not seen; which rights make that
// impossible is in docs/engines.md.
func reach(s sqltext.Statement) string {
	head, _ := rules.Head(s.SQL)
	r := reading{tokens: head.Tokens}
	for r.at = range r.tokens {
		if what := r.what(); what != "" {
			return what
		}
	}
	return ""
}

// reading is a walk over a statement's tokens that knows where it is.
type reading struct {
	tokens  []words.Token
	at      int
	queries []bool // for each open parenthesis, whether a query stands in it
}

func (r *reading) token(ahead int) words.Token {
	if at := r.at + ahead; at >= 0 && at < len(r.tokens) {
		return r.tokens[at]
	}
	return words.Token{Kind: words.Space}
}

func (r *reading) what() string {
	t := r.token(0)
	switch {
	case t.Is("("):
		r.queries = append(r.queries, r.token(1).Any("SELECT", "WITH", "VALUES", "("))
	case t.Is(")") && len(r.queries) > 0:
		r.queries = r.queries[:len(r.queries)-1]
	case t.Is("LOAD_FILE") && r.token(1).Is("("),
		t.Is("INTO") && r.token(1).Any("OUTFILE", "DUMPFILE"):
		return "a file of the server"
	case (t.Kind == words.Word || t.Kind == words.Quoted) && strings.EqualFold(t.Name(), "sql_log_bin"),
		t.Kind == words.Variable && strings.HasSuffix(strings.ToLower(string(t.Raw())), "sql_log_bin"):
		return "the server's binary log, without which its replicas differ"
	case r.begins() && r.at > 0: // in a body; a statement's own first words are read by shapeOf
		if what := r.within(); what != "" {
			return what
		}
	}
	if !r.tableFollows() {
		return ""
	}
	w := words.Walk{Tokens: r.tokens, At: r.at + 1}
	for w.Pass("IF", "EXISTS") || w.Pass("IF", "NOT", "EXISTS") || w.Peek().Any("IGNORE", "LOW_PRIORITY", "ONLY") {
		if w.Peek().Any("IGNORE", "LOW_PRIORITY", "ONLY") {
			w.Take()
		}
	}
	if database, table := w.Name(); database != "" && table != "" && !strings.EqualFold(database, "information_schema") {
		return "another database, or names its own, which has another name elsewhere (" + database + "." + table + ")"
	}
	return ""
}

// begins reports whether a statement of a body begins here.
func (r *reading) begins() bool {
	return r.at == 0 || r.token(-1).Any(";", "BEGIN", "THEN", "ELSE", "DO", "LOOP", "REPEAT", "ATOMIC", ":")
}

// within is what a statement of a body reaches.
func (r *reading) within() string {
	t, next := r.token(0), r.token(1)
	if t.Any("CREATE", "DROP", "ALTER") {
		if next.Is("OR") {
			next = r.token(3) // OR REPLACE
		}
		switch {
		case next.Any("DATABASE", "SCHEMA"):
			return "another database"
		case next.Any("USER", "ROLE"):
			return "users and roles"
		case next.Any("SERVER", "TABLESPACE"):
			return "the server"
		}
	}
	switch {
	case t.Any("GRANT", "REVOKE"), t.Is("SET") && next.Any("PASSWORD", "DEFAULT"):
		return "rights of users"
	case t.Is("SET") && (next.Is("GLOBAL") || strings.HasPrefix(strings.ToLower(string(next.Raw())), "@@global")):
		return "a setting of the whole server"
	case t.Is("LOAD") && next.Any("DATA", "XML"):
		return "a file of the server"
	case t.Any("FLUSH", "PURGE", "SHUTDOWN", "INSTALL", "UNINSTALL", "KILL"):
		return "the server"
	}
	return ""
}

// tableFollows reports whether the name of a table, and of nothing else, stands next.
func (r *reading) tableFollows() bool {
	t := r.token(0)
	switch {
	case t.Is("FROM"): // not that of EXTRACT, TRIM and SUBSTRING
		return len(r.queries) == 0 || r.queries[len(r.queries)-1]
	case t.Is("INTO"): // not that of SELECT and FETCH, which name variables
		for back := -1; back >= -4; back-- {
			if r.token(back).Any("INSERT", "REPLACE") {
				return true
			}
		}
		return false
	case t.Is("UPDATE"):
		return r.begins()
	case t.Is("TRUNCATE"):
		return r.begins() && !r.token(1).Is("TABLE")
	}
	return t.Any("JOIN", "TABLE", "REFERENCES", "VIEW")
}
