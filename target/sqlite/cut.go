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
	var s shapes
	for at := 0; at < len(text); {
		t := rules.Next(text, at)
		at = t.To
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
		case t.Is(";") && !s.inTrigger():
			c.End()
			s = shapes{}
			continue
		}
		if err := c.Add(t); err != nil {
			return nil, err
		}
		s.read(t)
	}
	c.End()
	return c.Statements(), nil
}

// shapes is what of a statement says whether a semicolon ends it.
type shapes struct {
	words   int // how many tokens were read
	create  bool
	trigger bool
	ended   int // of a trigger: 1 after a semicolon, 2 after the END that follows it
}

// inTrigger reports whether a semicolon belongs to the statement.
func (s *shapes) inTrigger() bool {
	if s.trigger && s.ended < 2 {
		s.ended = 1
		return true
	}
	return false
}

func (s *shapes) read(t words.Token) {
	switch s.words++; {
	case s.words == 1:
		s.create = t.Is("CREATE")
	case s.words <= 3 && s.create && t.Is("TRIGGER"):
		s.trigger = true
	case s.ended == 1 && t.Is("END"):
		s.ended = 2
	case !t.Is(";"):
		s.ended = 0
	}
}
