package sqltext

import (
	pg "github.com/pganalyze/pg_query_go/v6"
)

// Mentions reports whether a plain string in a statement, or in the data of a
// COPY, is a value.
func Mentions(s Statement, value string) bool {
	tokens, problem := scan(s.SQL[:min(len(s.SQL), mostParsed)])
	if problem != nil {
		return false
	}
	for _, token := range tokens {
		if token.Token == pg.Token_SCONST && string(s.SQL[token.Start:token.End]) == Literal(value) {
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
