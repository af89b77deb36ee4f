package sqltext

import (
	"errors"
	"fmt"

	pg "github.com/pganalyze/pg_query_go/v6"
	"github.com/pganalyze/pg_query_go/v6/parser"
)

const (
	// mostParsed is the longest statement that is parsed, in bytes. Longer ones
	// load rows, and their tree would take a hundred times as much memory.
	mostParsed = 1 << 20
	// mostDepth is how deep a statement's tree may be, by the bound that depth
	// gives. The grammar's own code walks over trees by recursion, and ends the
	// whole process where its stack ends, at some 25,000.
	mostDepth = 2000
)

// Unparsed says why a statement was not parsed. The server may still take it: it
// may be another version's, or be too long or too deep to be looked into.
type Unparsed struct {
	Message  string
	Position int // in characters from 1; 0 where there is none
}

func (e *Unparsed) Error() string { return e.Message }

// Parse gives a statement's tree, by the grammar of the server's version that
// this program was built with. Its error is *Unparsed.
func Parse(s Statement) (*pg.Node, error) {
	if s.IsCopy {
		return nil, &Unparsed{Message: "a COPY with its data"}
	}
	if len(s.SQL) > mostParsed {
		return nil, &Unparsed{Message: fmt.Sprintf("the statement is longer than %d KiB, which is too long to be reviewed", mostParsed>>10)}
	}
	tokens, problem := scan(s.SQL)
	if problem != nil {
		return nil, &Unparsed{Message: problem.message}
	}
	if depth(tokens) > mostDepth {
		return nil, &Unparsed{Message: "the statement is nested too deep to be reviewed"}
	}
	tree, err := pg.Parse(string(s.SQL))
	var refused *parser.Error
	switch {
	case errors.As(err, &refused):
		return nil, &Unparsed{Message: refused.Message, Position: refused.Cursorpos}
	case err != nil:
		return nil, &Unparsed{Message: err.Error()}
	case len(tree.Stmts) != 1:
		return nil, &Unparsed{Message: "it is not one statement"}
	}
	return tree.Stmts[0].Stmt, nil
}

// parsed is a statement's tree; nil where there is none.
func parsed(s Statement) *pg.Node {
	node, _ := Parse(s) // nil with its error
	return node
}

// level is what stands between a pair of brackets, or between CASE and its END.
type level struct {
	closes pg.Token
	now    int // since the last comma, AND or the like: what comes next stands beside, not below
	most   int
	chain  int // joins and set operations, which stand below each other whatever is between them
}

func (l level) depth() int {
	const each = 3 // levels of the tree
	return l.most + each*l.chain
}

// depth is an upper bound of how deep a statement's tree is: each level takes a
// keyword, an operator or an opening bracket of its own. What stands side by side
// in a list takes none; the parts of a list are counted by the longest.
func depth(tokens []*pg.ScanToken) int {
	levels := []level{{}}
	for _, token := range tokens {
		here := &levels[len(levels)-1]
		switch token.Token {
		case pg.Token_SQL_COMMENT, pg.Token_C_COMMENT, pg.Token_IDENT, pg.Token_UIDENT, pg.Token_SCONST, pg.Token_USCONST, pg.Token_BCONST, pg.Token_XCONST,
			pg.Token_ICONST, pg.Token_FCONST, pg.Token_PARAM:
			continue
		case pg.Token_ASCII_44, pg.Token_ASCII_59, pg.Token_AND, pg.Token_OR, pg.Token_WHEN, pg.Token_THEN, pg.Token_ELSE: // , ;
			here.now = 0
			continue
		case pg.Token_JOIN, pg.Token_UNION, pg.Token_INTERSECT, pg.Token_EXCEPT:
			here.chain++
			continue
		}
		here.now++
		here.most = max(here.most, here.now)
		switch token.Token {
		case pg.Token_ASCII_40: // (
			levels = append(levels, level{closes: pg.Token_ASCII_41})
		case pg.Token_ASCII_91: // [
			levels = append(levels, level{closes: pg.Token_ASCII_93})
		case pg.Token_CASE:
			levels = append(levels, level{closes: pg.Token_END_P})
		case here.closes:
			if n := len(levels); n > 1 {
				within := here.depth()
				levels = levels[:n-1]
				outer := &levels[n-2]
				outer.now += within // what follows may stand above it
				outer.most = max(outer.most, outer.now)
			}
		}
	}
	sum := 0
	for _, l := range levels {
		sum += l.depth()
	}
	return sum
}
