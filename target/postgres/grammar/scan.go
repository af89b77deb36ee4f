package grammar

import (
	"bytes"
	"errors"
	"unicode/utf8"

	"vorrang/core/sqltext"

	pg "github.com/pganalyze/pg_query_go/v6"
	"github.com/pganalyze/pg_query_go/v6/parser"
)

// scanProblem is the scanner's word that it cannot read on.
type scanProblem struct {
	offset  int // in bytes
	message string
}

// scan asks the server's scanner for the tokens of text.
func scan(text []byte) ([]*pg.ScanToken, *scanProblem) {
	if len(text) == 0 {
		return nil, nil
	}
	result, err := pg.Scan(string(text))
	if err == nil {
		return result.Tokens, nil
	}
	var refused *parser.Error
	if !errors.As(err, &refused) {
		return nil, &scanProblem{message: err.Error()}
	}
	offset := sqltext.CharOffset(text, refused.Cursorpos)
	message, _, _ := bytes.Cut([]byte(refused.Message), []byte(" at or near"))
	return nil, &scanProblem{offset: offset, message: string(message)}
}

// certain counts the tokens that stay as they are when more text follows: up
// to the last semicolon, which is always a token of its own, or else all but
// the last two, and never cut between strings, which the scanner joins across
// lines.
func certain(tokens []*pg.ScanToken) int {
	n := max(len(tokens)-2, 0)
	for n > 0 && joins(tokens[n-1].Token) {
		n--
	}
	for i := len(tokens) - 1; i >= n; i-- {
		if tokens[i].Token == pg.Token_ASCII_59 {
			return i + 1
		}
	}
	return n
}

func joins(token pg.Token) bool {
	switch token {
	case pg.Token_SCONST, pg.Token_USCONST, pg.Token_BCONST, pg.Token_XCONST, pg.Token_UIDENT,
		pg.Token_C_COMMENT, pg.Token_SQL_COMMENT:
		return true
	}
	return false
}

// wholeRunes moves end back so that text[start:end] ends with a whole character.
func wholeRunes(text []byte, start, end int) int {
	for end < len(text) && end > start && !utf8.RuneStart(text[end]) {
		end--
	}
	return end
}

// position gives the line and column of an offset. It is quick for offsets that
// only grow, also where they stand on one long line.
func (c *cutter) position(offset int) (line, column int) {
	if offset < c.lineAt {
		c.lineAt, c.line, c.column = 0, 1, 1
	}
	stretch := c.text[c.lineAt:offset]
	if newline := bytes.LastIndexByte(stretch, '\n'); newline >= 0 {
		c.line += bytes.Count(stretch, []byte("\n"))
		c.column, stretch = 1, stretch[newline+1:]
	}
	c.column += utf8.RuneCount(stretch)
	c.lineAt = offset
	return c.line, c.column
}

// words is what is remembered of a statement's tokens to tell its kind.
type words struct {
	first     [4]pg.Token
	count     int
	last      pg.Token
	fromStdin bool
}

func (w *words) add(token pg.Token, parens int) {
	if w.count < len(w.first) {
		w.first[w.count] = token
	}
	w.count++
	if parens == 0 && w.last == pg.Token_FROM && token == pg.Token_STDIN {
		w.fromStdin = true
	}
	w.last = token
}

func (w *words) copyFromStdin() bool {
	return w.first[0] == pg.Token_COPY && w.fromStdin
}

// routine reports CREATE [OR REPLACE] FUNCTION or PROCEDURE.
func (w *words) routine() bool {
	kind := w.first[1]
	if kind == pg.Token_OR && w.first[2] == pg.Token_REPLACE {
		kind = w.first[3]
	}
	return w.first[0] == pg.Token_CREATE && (kind == pg.Token_FUNCTION || kind == pg.Token_PROCEDURE)
}
