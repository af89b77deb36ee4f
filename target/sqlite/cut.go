package sqlite

import (
	"bytes"
	"unicode/utf8"

	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// mostStatements is how many a text may hold: each is looked at by itself.
const mostStatements = 100_000

// cut returns the statements of a text. A trigger's statements belong to it: it ends
// where END follows a semicolon, as sqlite3_complete has it.
// Source: https://www.sqlite.org/c3ref/complete.html
func cut(text []byte) ([]sqltext.Statement, error) {
	var statements []sqltext.Statement
	var s statement
	place := places{text: text, line: 1, column: 1}
	for at := 0; at < len(text); {
		t := next(text, at)
		at = t.to
		switch {
		case t.kind == unclosed:
			return nil, errorAt(text, t.from, "this "+opened(t)+" is never closed")
		case t.kind == space || t.kind == comment:
			continue
		case !s.began && t.is("."):
			return nil, errorAt(text, t.from, "commands that begin with a dot belong to the sqlite3 shell, and are no SQL: take this out")
		case t.is(";") && !s.inTrigger():
			statements = s.end(text, statements)
			continue
		}
		if !s.began && len(statements) == mostStatements {
			return nil, errorAt(text, t.from, "more than 100,000 statements; write several rows with one INSERT, or split the step")
		}
		s.read(t, &place)
	}
	return s.end(text, statements), nil
}

func opened(t token) string {
	switch t.raw()[0] {
	case '/':
		return "comment"
	case '"', '`', '[':
		return "name in quotes"
	}
	return "string"
}

func errorAt(text []byte, offset int, message string) error {
	line, column := step.Position(text, offset)
	return &sqltext.Error{Offset: offset, Line: line, Column: column, Message: message}
}

// statement is the one that is being read.
type statement struct {
	sqltext.Statement
	began   bool
	last    int // behind its last token
	words   int // how many tokens were read, as far as it matters
	create  bool
	trigger bool
	ended   int // of a trigger: 1 behind a semicolon, 2 behind the END that follows it
}

// inTrigger reports whether a semicolon belongs to the statement.
func (s *statement) inTrigger() bool {
	if s.trigger && s.ended < 2 {
		s.ended = 1
		return true
	}
	return false
}

func (s *statement) read(t token, place *places) {
	if !s.began {
		s.began = true
		s.Offset = t.from
		s.Line, s.Column = place.of(t.from)
	}
	s.last = t.to
	if t.kind == variable && string(t.raw()) == sqltext.BatchPlace {
		s.Batch = append(s.Batch, t.from-s.Offset)
	}
	switch s.words++; {
	case s.words == 1:
		s.create = t.is("CREATE")
	case s.words <= 3 && s.create && t.is("TRIGGER"):
		s.trigger = true
	case s.ended == 1 && t.is("END"):
		s.ended = 2
	case !t.is(";"):
		s.ended = 0
	}
}

func (s *statement) end(text []byte, all []sqltext.Statement) []sqltext.Statement {
	if s.began {
		s.SQL = text[s.Offset:s.last:s.last]
		all = append(all, s.Statement)
	}
	*s = statement{}
	return all
}

// places turns offsets that only grow into lines and columns.
type places struct {
	text         []byte
	at           int
	line, column int // from 1; columns in characters
}

func (p *places) of(offset int) (line, column int) {
	between := p.text[p.at:offset]
	if n := bytes.Count(between, []byte{'\n'}); n > 0 {
		p.line += n
		p.column = 1
		between = between[bytes.LastIndexByte(between, '\n')+1:]
	}
	p.column += utf8.RuneCount(between)
	p.at = offset
	return p.line, p.column
}
