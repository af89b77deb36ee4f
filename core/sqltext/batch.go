package sqltext

import (
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"slices"
	"strconv"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// batchPlace is what stands in a statement for the size of a batch. psql knows
// it as the variable batch.
const batchPlace = ":batch"

// batchPlaces are the offsets of :batch, outside of strings and comments.
func (s Statement) batchPlaces() []int {
	tokens, problem := scan(s.SQL)
	if problem != nil {
		return nil
	}
	var places []int
	for i, token := range tokens[:max(len(tokens)-1, 0)] {
		next := tokens[i+1]
		if token.Token == pg.Token_ASCII_58 && next.Start == token.End && string(s.SQL[token.Start:next.End]) == batchPlace {
			places = append(places, int(token.Start))
		}
	}
	return places
}

// HasBatch reports whether the statement has a place for the size of a batch.
func (s Statement) HasBatch() bool { return len(s.batchPlaces()) > 0 }

// WithBatch puts a size into the places that :batch keeps for it. A size of up
// to six digits moves nothing behind it.
func (s Statement) WithBatch(size int64) Statement {
	number := []byte(strconv.FormatInt(size, 10))
	for len(number) < len(batchPlace) {
		number = append(number, ' ')
	}
	sql := slices.Clone(s.SQL)
	for _, at := range slices.Backward(s.batchPlaces()) {
		sql = slices.Replace(sql, at, at+len(batchPlace), number...)
	}
	s.SQL = sql
	return s
}

// Sum is a running checksum of statements, by which a script is known again up
// to a statement. Its zero value is that of none.
type Sum struct{ hash hash.Hash }

// Add takes a statement in.
func (s *Sum) Add(statement Statement) {
	if s.hash == nil {
		s.hash = sha256.New()
	}
	for _, part := range [][]byte{statement.SQL, {0}, statement.CopyData, {0}} {
		s.hash.Write(part)
	}
}

// Total is the checksum of what was added so far.
func (s *Sum) Total() string {
	if s.hash == nil {
		s.hash = sha256.New()
	}
	return hex.EncodeToString(s.hash.Sum(nil))
}
