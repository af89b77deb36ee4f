package words

import (
	"bytes"

	"vorrang/core/sqltext"
)

// Compare says what the difference between two scripts amounts to.
func (r Rules) Compare(before, after []byte) sqltext.Change {
	if bytes.Equal(before, after) {
		return sqltext.Same
	}
	was, noted := r.Split(before)
	is, nowNoted := r.Split(after)
	switch {
	case !equal(was, is):
		return sqltext.WhatRuns
	case !equal(noted, nowNoted):
		return sqltext.OnlyComments
	}
	return sqltext.OnlySpace
}

func equal(a, b []Token) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if !bytes.Equal(bytes.TrimSpace(a[i].Raw()), bytes.TrimSpace(b[i].Raw())) {
			return false
		}
	}
	return true
}
