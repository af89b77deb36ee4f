package grammar

import (
	"bytes"
	"regexp"
	"slices"
	"strings"

	"vorrang/core/sqltext"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// Mentions reports whether a plain string in a statement, or in the data of a
// COPY, is a value.
func Mentions(s sqltext.Statement, value string) bool {
	tokens, problem := scan(s.SQL[:min(len(s.SQL), mostParsed)])
	if problem != nil {
		return false
	}
	for _, token := range tokens {
		if token.Token == pg.Token_SCONST && string(s.SQL[token.Start:token.End]) == sqltext.Literal(value) {
			return true
		}
	}
	return false
}

// EndsTransaction reports whether the body of a DO block holds a COMMIT or a
// ROLLBACK.
func EndsTransaction(body string) bool {
	tokens, problem := scan([]byte(body))
	if problem != nil {
		return false
	}
	for i, token := range tokens[:max(len(tokens)-1, 0)] {
		ends := token.Token == pg.Token_COMMIT || token.Token == pg.Token_ROLLBACK
		next := tokens[i+1].Token
		if ends && (next == pg.Token_ASCII_59 || next == pg.Token_AND) {
			return true
		}
	}
	return false
}

// NamesSchema reports whether a statement names something of a schema, or the
// schema itself: as a name, or in a string or a body as one that has a ledger.
// Dynamic SQL can hide a name from it.
func NamesSchema(s sqltext.Statement, schema string) bool {
	sql := s.SQL[:min(len(s.SQL), mostParsed)]
	if !bytes.Contains(bytes.ToLower(sql), []byte(schema)) {
		return false // as nearly all do not
	}
	tokens, problem := scan(sql)
	if problem != nil {
		return false
	}
	is := func(token *pg.ScanToken) bool {
		text := string(s.SQL[token.Start:token.End])
		return token.Token == pg.Token_IDENT && (strings.EqualFold(text, schema) || text == `"`+schema+`"`)
	}
	within := regexp.MustCompile(`(?i)\b` + regexp.QuoteMeta(schema) + `"?\s*\.\s*"?(?:ledger|refuse_change)\b`)
	for i, token := range tokens {
		switch {
		case token.Token == pg.Token_SCONST && within.Match(s.SQL[token.Start:token.End]):
			return true
		case !is(token):
		case i+1 < len(tokens) && tokens[i+1].Token == pg.Token_ASCII_46: // .
			return true
		case i > 0 && (tokens[i-1].Token == pg.Token_SCHEMA || tokens[i-1].Token == pg.Token_EXISTS):
			return true
		}
	}
	return false
}

// MostName is how long a name can be, in bytes: NAMEDATALEN - 1 of a server that is built
// as usual.
const MostName = 63

// LongNames are the names in a statement that the server cuts.
func LongNames(s sqltext.Statement) (names []string) {
	if len(s.SQL) > mostParsed {
		return nil
	}
	tokens, problem := scan(s.SQL)
	if problem != nil {
		return nil
	}
	for _, token := range tokens {
		name := string(s.SQL[token.Start:token.End])
		if quoted, is := strings.CutPrefix(name, `"`); is {
			name = strings.ReplaceAll(strings.TrimSuffix(quoted, `"`), `""`, `"`)
		}
		if token.Token == pg.Token_IDENT && len(name) > MostName && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}
