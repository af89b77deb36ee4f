package sqltext

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"slices"
	"strconv"
	"unicode/utf8"
)

// Statement is one statement of a file, and where it stands.
type Statement struct {
	// place in the file
	Offset int // in bytes, of the first character that is no comment
	Line   int // from 1
	Column int // from 1, in characters

	// text; both share memory with what was cut
	SQL      []byte // without the semicolon that ends it
	CopyData []byte // the lines of COPY … FROM stdin, without the closing \.

	// for COPY … FROM stdin
	IsCopy     bool
	DataLine   int // the line where CopyData begins
	DataOffset int // in bytes, from the file's beginning

	// Batch are the places of BatchPlace in SQL, in bytes.
	Batch []int
}

// Place is the line and the column, both from 1, of an offset in the statement's SQL.
func (s Statement) Place(at int) (line, column int) {
	before := s.SQL[:min(at, len(s.SQL))]
	lines := bytes.Count(before, []byte("\n"))
	if lines == 0 {
		return s.Line, s.Column + utf8.RuneCount(before)
	}
	return s.Line + lines, utf8.RuneCount(before[bytes.LastIndexByte(before, '\n')+1:]) + 1
}

// BatchPlace is in a statement of mode batches for how many rows one batch
// may change.
const BatchPlace = ":batch"

// HasBatch reports whether BatchPlace is in the statement, outside of strings
// and comments.
func (s Statement) HasBatch() bool { return len(s.Batch) > 0 }

// WithBatch puts a number in place of BatchPlace. Nothing after it moves.
func (s Statement) WithBatch(size int64) Statement {
	number := []byte(strconv.FormatInt(size, 10))
	for len(number) < len(BatchPlace) {
		number = append(number, ' ')
	}
	sql := slices.Clone(s.SQL)
	for _, at := range slices.Backward(s.Batch) {
		sql = slices.Replace(sql, at, at+len(BatchPlace), number...)
	}
	s.SQL, s.Batch = sql, nil
	return s
}

// Error says where a text cannot be cut into statements, and why.
type Error struct {
	Offset  int // in bytes
	Line    int // from 1
	Column  int // from 1, in characters
	Message string
}

func (e *Error) Error() string {
	return fmt.Sprintf("%d:%d: %s", e.Line, e.Column, e.Message)
}

// CharOffset turns a server's position, in characters from 1, into an offset
// in bytes. A position of 0 means that there is none and gives 0.
func CharOffset(text []byte, position int) int {
	offset := 0
	for ; position > 1 && offset < len(text); position-- {
		_, size := utf8.DecodeRune(text[offset:])
		offset += size
	}
	return offset
}

// Sum adds statements up to one checksum, which names what ran so far.
type Sum struct{ hash hash.Hash }

// Add adds a statement.
func (s *Sum) Add(statement Statement) {
	if s.hash == nil {
		s.hash = sha256.New()
	}
	for _, part := range [][]byte{statement.SQL, {0}, statement.CopyData, {0}} {
		s.hash.Write(part)
	}
}

// Total is the SHA-256 of all statements so far, in lower-case hexadecimal.
func (s *Sum) Total() string {
	if s.hash == nil {
		s.hash = sha256.New()
	}
	return hex.EncodeToString(s.hash.Sum(nil))
}

// Change says what an edit of a script amounts to, by the server's tokens.
type Change string

const (
	Same         Change = ""            // the texts are equal
	OnlySpace    Change = "white space" // not a token differs
	OnlyComments Change = "comments"    // not a token that is no comment differs
	WhatRuns     Change = "statements"  // what runs is another
)
