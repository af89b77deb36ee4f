package grammar

import (
	"fmt"

	"vorrang/core/sqltext"
	"vorrang/core/step"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// mostParsed is the longest statement that is parsed, in bytes without its comments. Longer ones load
// rows, and their tree would take a hundred times as much memory.
const mostParsed = 1 << 20

// Unparsed says why a statement was not parsed. The server may still take it: it
// may be another version's, or be too long or too deep to be looked into.
type Unparsed struct {
	Message  string
	Position int  // in characters from 1; 0 where there is none
	Unread   bool // it was given up before its end: it is too long, too deep or takes too long
}

func (e *Unparsed) Error() string { return e.Message }

// Parse gives a statement's tree, by the grammar of the server's version that
// this program was built with. Its error is *Unparsed.
func Parse(s sqltext.Statement) (*pg.Node, error) {
	if s.IsCopy {
		return nil, &Unparsed{Message: "a COPY with its data"}
	}
	if len(s.SQL) > mostParsed && step.SizeWithoutComments(s.SQL) > mostParsed {
		return nil, &Unparsed{
			Unread: true,
			Message: fmt.Sprintf(
				"the statement is longer than %d KiB, which is too long to be reviewed",
				mostParsed>>10,
			),
		}
	}
	tree, err := grammar.tree(s.SQL)
	switch {
	case err != nil:
		return nil, err
	case len(tree.Stmts) != 1:
		return nil, &Unparsed{Message: "it is not one statement"}
	}
	return tree.Stmts[0].Stmt, nil
}

// parsed is a statement's tree; nil where there is none.
func parsed(s sqltext.Statement) *pg.Node {
	node, _ := Parse(s) // nil with its error
	return node
}
