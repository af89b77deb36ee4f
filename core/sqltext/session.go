package sqltext

import (
	"fmt"
	"regexp"
)

// Session is what statements leave in the session that runs them, beside what
// they do to the database.
type Session struct {
	// Again are the statements that make the same settings in a new session: SET
	// and its like, in order.
	Again []Statement
	// Lost is what a new session cannot be given again.
	Lost []Lost
}

// Lost is something that ends with the session that made it.
type Lost struct {
	What string // such as "temporary table"
	Name string // empty where it has none
	Line int    // of the statement that made it

	Needs *regexp.Regexp // finds a statement that may need it; nil for every one
}

// String is "the temporary table tide (line 3)".
func (l Lost) String() string {
	name := ""
	if l.Name != "" {
		name = " " + l.Name
	}
	return fmt.Sprintf("the %s%s (line %d)", l.What, name, l.Line)
}

// NeededBy finds the first statement that may need it. A name in the text is
// enough: to refuse too much is better than to run on without it.
func (l Lost) NeededBy(statements []Statement) (Statement, bool) {
	for _, s := range statements {
		if l.Needs == nil || l.Needs.Match(s.SQL) {
			return s, true
		}
	}
	return Statement{}, false
}
