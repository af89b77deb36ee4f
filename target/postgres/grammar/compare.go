package grammar

import (
	"bytes"

	"vorrang/core/sqltext"

	pg "github.com/pganalyze/pg_query_go/v6"
)

const longStatement = 4 << 20 // bytes; longer ones are compared as they stand

// Compare says what the difference between two scripts amounts to. Scripts that
// cannot be cut are compared as they stand.
func Compare(before, after []byte) sqltext.Change {
	if bytes.Equal(before, after) {
		return sqltext.Same
	}
	was, err := Cut(before)
	is, err2 := Cut(after)
	if err != nil || err2 != nil || len(was) != len(is) {
		return sqltext.WhatRuns
	}
	for i := range was {
		if !bytes.Equal(was[i].CopyData, is[i].CopyData) || !sameTokens(was[i].SQL, is[i].SQL) {
			return sqltext.WhatRuns
		}
	}
	if sameComments(before, after, was, is) {
		return sqltext.OnlySpace
	}
	return sqltext.OnlyComments
}

func sameTokens(a, b []byte) bool {
	if bytes.Equal(a, b) {
		return true
	}
	if len(a) > longStatement || len(b) > longStatement {
		return false
	}
	words, _, ok := tokens(a)
	others, _, ok2 := tokens(b)
	return ok && ok2 && equal(words, others)
}

// sameComments compares what is in and between the statements.
func sameComments(before, after []byte, was, is []sqltext.Statement) bool {
	a, ok := comments(before, was)
	b, ok2 := comments(after, is)
	return ok && ok2 && equal(a, b)
}

// comments lists the comments of a script in order.
func comments(text []byte, statements []sqltext.Statement) (all [][]byte, ok bool) {
	at := 0
	for _, s := range statements {
		end := s.Offset + len(s.SQL)
		if end-at > longStatement {
			return nil, false
		}
		_, found, ok := tokens(text[at:end])
		if !ok {
			return nil, false
		}
		all = append(all, found...)
		if at = end; s.IsCopy {
			at += bytes.Index(text[at:], s.CopyData) + len(s.CopyData)
			at += bytes.Index(text[at:], []byte(`\.`)) + 2
		}
	}
	_, found, ok := tokens(text[at:])
	return append(all, found...), ok
}

// tokens takes a text apart into comments and all else.
func tokens(text []byte) (words, comments [][]byte, ok bool) {
	list, problem := scan(text)
	if problem != nil {
		return nil, nil, false
	}
	for _, token := range list {
		part := text[token.Start:token.End]
		if token.Token == pg.Token_SQL_COMMENT || token.Token == pg.Token_C_COMMENT {
			comments = append(comments, bytes.TrimSpace(part))
			continue
		}
		words = append(words, part)
	}
	return words, comments, true
}

func equal(a, b [][]byte) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if !bytes.Equal(a[i], b[i]) {
			return false
		}
	}
	return true
}
