package words

import (
	"bytes"
	"unicode/utf8"

	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// mostStatements is how many a text may hold: each is checked by itself.
const mostStatements = 100_000

// Cutter puts tokens together to statements. Whoever knows where a statement ends
// feeds it.
type Cutter struct {
	text       []byte
	statements []sqltext.Statement

	began bool
	now   sqltext.Statement
	last  int // after its last token

	// the place of an offset that was turned into a line
	at           int
	line, column int
}

// NewCutter begins to cut a text.
func NewCutter(text []byte) *Cutter { return &Cutter{text: text, line: 1, column: 1} }

// Began reports whether a statement is being read.
func (c *Cutter) Began() bool { return c.began }

// Add adds a token to the statement. Its error is an *sqltext.Error.
func (c *Cutter) Add(t Token) error {
	if !c.began {
		if len(c.statements) == mostStatements {
			return c.Error(
				t.From,
				"more than 100,000 statements; write several rows with one INSERT, or split the step",
			)
		}
		c.began, c.now = true, sqltext.Statement{Offset: t.From}
		c.now.Line, c.now.Column = c.place(t.From)
	}
	c.last = t.To
	if t.Kind == Variable && string(t.Raw()) == sqltext.BatchPlace {
		c.now.Batch = append(c.now.Batch, t.From-c.now.Offset)
	}
	return nil
}

// End ends the statement, if one is being read.
func (c *Cutter) End() {
	if c.began {
		c.now.SQL = c.text[c.now.Offset:c.last:c.last]
		c.statements = append(c.statements, c.now)
	}
	c.began = false
}

// Statements are those that have ended.
func (c *Cutter) Statements() []sqltext.Statement { return c.statements }

// Error says why the text cannot be cut.
func (c *Cutter) Error(offset int, message string) error {
	line, column := step.Position(c.text, offset)
	return &sqltext.Error{Offset: offset, Line: line, Column: column, Message: message}
}

// Unclosed is the error of a token that is never closed.
func (c *Cutter) Unclosed(t Token) error {
	what := "string"
	switch t.Raw()[0] {
	case '/':
		what = "comment"
	case '`', '[':
		what = "name in quotes"
	}
	return c.Error(t.From, "this "+what+" is never closed")
}

// place turns offsets that only grow into lines and columns.
func (c *Cutter) place(offset int) (line, column int) {
	between := c.text[c.at:offset]
	if n := bytes.Count(between, []byte{'\n'}); n > 0 {
		c.line += n
		c.column = 1
		between = between[bytes.LastIndexByte(between, '\n')+1:]
	}
	c.column += utf8.RuneCount(between)
	c.at = offset
	return c.line, c.column
}
