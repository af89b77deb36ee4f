package grammar

import (
	"bytes"
	"fmt"

	"vorrang/core/sqltext"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// mostStatements is how many a text may hold: each is checked by itself.
const mostStatements = 100_000

// Cut returns the statements of text, which must be UTF-8 with LF line ends.
// Text that holds none gives none and no error. Every error is an *sqltext.Error.
func Cut(text []byte) ([]sqltext.Statement, error) {
	c := cutter{text: text, line: 1, column: 1}
	for size := smallWindow; c.at < len(text); {
		before, copies := c.at, c.copies
		if err := c.window(min(before+size, len(text))); err != nil {
			return nil, err
		}
		if len(c.statements) > mostStatements {
			return nil, c.errorAt(
				c.statements[mostStatements].Offset,
				"more than 100,000 statements; load rows with COPY, or split the step",
			)
		}
		switch {
		case c.at == before:
			size *= 4 // one token is larger than the window
		case c.copies > copies:
			size = smallWindow // the scanner had read into its data
		default:
			size = min(2*size, largeWindow)
		}
	}
	c.endStatement(len(text))
	return c.statements, nil
}

// The scanner is given windows of the text, in bytes, so that memory stays small
// for files of many megabytes. A window ends at a COPY, and what was scanned
// after it is scanned again: so it begins small, and grows as long as none comes.
const (
	smallWindow = 256
	largeWindow = 64 << 10
)

// cutter walks over a text from left to right.
type cutter struct {
	// immutable state
	text []byte

	// position
	at     int // everything before it has been read
	lineAt int // an offset, and its line and column
	line   int
	column int

	// the statement that is being read
	open   bool
	start  int
	end    int // after its last token
	parens int
	body   int // depth of BEGIN ATOMIC … END and of CASE … END within it
	words  words
	batch  []int // places of sqltext.BatchPlace, from its beginning

	statements []sqltext.Statement
	copies     int // with data
}

// window scans text[c.at:end] and reads the tokens that are certain. It leaves
// c.at where it was if no token is.
func (c *cutter) window(end int) error {
	last := end == len(c.text)
	stretch := c.text[c.at:wholeRunes(c.text, c.at, end)]

	tokens, problem := scan(stretch)
	if problem == nil {
		return c.read(tokens, last)
	}
	// What stands before the place of the error is sound: it may be a COPY,
	// and the scanner has stumbled over its data.
	base, before := c.at, len(c.statements)
	if sound, again := scan(stretch[:problem.offset]); again == nil {
		if err := c.read(sound, false); err != nil {
			return err
		}
	}
	if last && c.at == base && len(c.statements) == before {
		return c.errorAt(base+problem.offset, problem.message)
	}
	return nil
}

// read takes in the tokens of the text from c.at on. With last, nothing
// follows them.
func (c *cutter) read(tokens []*pg.ScanToken, last bool) error {
	base := c.at
	if !last {
		tokens = tokens[:certain(tokens)]
	}
	for _, token := range tokens {
		from, to := base+int(token.Start), base+int(token.End)
		c.at = to
		switch token.Token {
		case pg.Token_SQL_COMMENT, pg.Token_C_COMMENT:
		case pg.Token_ASCII_92:
			if next := c.restriction(from); next > 0 {
				c.at = next
				return nil
			}
			return c.backslash(from)
		case pg.Token_ASCII_59:
			if c.parens > 0 || c.body > 0 {
				continue
			}
			copied := c.open && c.words.copyFromStdin()
			c.endStatement(from)
			if copied {
				return c.copyData(to)
			}
		default:
			c.token(token.Token, from, to)
		}
	}
	if last {
		c.at = len(c.text)
	}
	return nil
}

func (c *cutter) token(token pg.Token, from, to int) {
	if !c.open {
		c.open, c.start, c.parens, c.body, c.words, c.batch = true, from, 0, 0, words{}, nil
	}
	if c.words.last == pg.Token_ASCII_58 && c.end == from && string(c.text[from-1:to]) == sqltext.BatchPlace {
		c.batch = append(c.batch, from-1-c.start)
	}
	c.end = to
	switch token {
	case pg.Token_ASCII_40:
		c.parens++
	case pg.Token_ASCII_41:
		c.parens = max(c.parens-1, 0)
	case pg.Token_ATOMIC:
		if c.words.routine() && c.parens == 0 && c.words.last == pg.Token_BEGIN_P {
			c.body = 1
		}
	case pg.Token_CASE:
		if c.body > 0 {
			c.body++
		}
	case pg.Token_END_P:
		c.body = max(c.body-1, 0)
	}
	c.words.add(token, c.parens)
}

func (c *cutter) endStatement(at int) {
	if !c.open {
		return
	}
	c.open = false
	line, column := c.position(c.start)
	c.statements = append(c.statements, sqltext.Statement{
		Offset: c.start, Line: line, Column: column, SQL: c.text[c.start:min(c.end, at)],
		IsCopy: c.words.copyFromStdin(), Batch: c.batch,
	})
}

// copyData reads the data lines of the COPY that has just ended at offset at.
func (c *cutter) copyData(at int) error {
	statement := &c.statements[len(c.statements)-1]
	rest, _, found := bytes.Cut(c.text[at:], []byte("\n"))
	trimmed := bytes.TrimSpace(rest)
	if len(trimmed) > 0 && !bytes.HasPrefix(trimmed, []byte("--")) {
		return c.errorAt(at+bytes.Index(rest, trimmed),
			"text stands behind COPY … FROM stdin; its data begins on the next line, and nothing may stand between")
	}
	start := at + len(rest)
	if found {
		start++
	}
	end, next := endOfData(c.text, start)
	if end < 0 {
		return c.errorAt(
			statement.Offset,
			`the data of this COPY … FROM stdin is never ended; close it with a line that holds \. alone`,
		)
	}
	c.copies++
	statement.CopyData, statement.DataOffset = c.text[start:end], start
	statement.DataLine, _ = c.position(start)
	c.at = next
	return nil
}

// endOfData finds the line \. at or after start: where the data ends, and where
// the text goes on. Both are -1 if there is none.
func endOfData(text []byte, start int) (end, next int) {
	closing := []byte(`\.`)
	for at := start; at < len(text); {
		line, _, _ := bytes.Cut(text[at:], []byte("\n"))
		if bytes.Equal(line, closing) {
			return at, min(at+len(line)+1, len(text))
		}
		found := bytes.Index(text[at:], []byte("\n\\."))
		if found < 0 {
			return -1, -1
		}
		at += found + 1
	}
	return -1, -1
}

// restriction finds where the text goes on after a line that pg_dump writes so
// that psql takes no other commands: \restrict KEY and \unrestrict KEY. It is 0 for
// everything else.
func (c *cutter) restriction(at int) int {
	line, _, _ := bytes.Cut(c.text[at:], []byte("\n"))
	fields := bytes.Fields(line)
	alone := !c.open && (at == 0 || c.text[at-1] == '\n')
	if !alone || len(fields) != 2 || string(fields[0]) != `\restrict` && string(fields[0]) != `\unrestrict` {
		return 0
	}
	return min(at+len(line)+1, len(c.text))
}

func (c *cutter) backslash(at int) error {
	command := c.text[at : at+1]
	if fields := bytes.Fields(c.text[at:min(at+40, len(c.text))]); len(fields) > 0 {
		command = fields[0]
	}
	return c.errorAt(
		at,
		fmt.Sprintf("%s is a command of psql, not SQL; a step holds plain SQL only: take it out", command),
	)
}

func (c *cutter) errorAt(offset int, message string) error {
	line, column := c.position(offset)
	return &sqltext.Error{Offset: offset, Line: line, Column: column, Message: message}
}
