package sqlite

import (
	"vorrang/core/sqltext"
	"vorrang/target/words"
)

// cut returns the statements of a text. A trigger's statements belong to it: it ends
// where END follows a semicolon, as sqlite3_complete has it.
// Source: https://www.sqlite.org/c3ref/complete.html
func cut(text []byte) ([]sqltext.Statement, error) {
	c := words.NewCutter(text)
	at := start
	for offset := 0; offset < len(text); {
		t := rules.Next(text, offset)
		offset = t.To
		switch {
		case t.Kind == words.Unclosed:
			return nil, c.Unclosed(t)
		case t.Kind == words.Space || t.Kind == words.Comment:
			continue
		case !c.Began() && t.Is("."):
			return nil, c.Error(
				t.From,
				"commands that begin with a dot belong to the sqlite3 shell, and are no SQL: take this out",
			)
		}
		if at = at.after(t); at == start {
			c.End()
			continue
		}
		if err := c.Add(t); err != nil {
			return nil, err
		}
	}
	c.End()
	return c.Statements(), nil
}

// completion is how far a statement has been read, as sqlite3_complete counts it.
// Source: complete.c of SQLite's sources.
type completion int

const (
	start     completion = iota // before a statement
	normal                      // in a statement that the next semicolon ends
	explain                     // after EXPLAIN
	create                      // after CREATE, or CREATE TEMP
	trigger                     // in a CREATE TRIGGER
	semicolon                   // in it, after a semicolon
	end                         // in it, after the END that follows a semicolon
)

// after is the state after one more token.
func (c completion) after(t words.Token) completion {
	switch {
	case t.Is(";"):
		if c == trigger || c == semicolon {
			return semicolon
		}
		return start
	case c == semicolon && t.Is("END"):
		return end
	case c >= trigger:
		return trigger
	case (c == start || c == explain) && t.Is("CREATE"):
		return create
	case c == start && t.Is("EXPLAIN"):
		return explain
	case c == explain && !t.Any("EXPLAIN", "TEMP", "TEMPORARY", "TRIGGER", "END"): // as in EXPLAIN QUERY PLAN
		return explain
	case c == create && t.Any("TEMP", "TEMPORARY"):
		return create
	case c == create && t.Is("TRIGGER"):
		return trigger
	}
	return normal
}
