package grammar

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	pg "github.com/pganalyze/pg_query_go/v6"
	"github.com/pganalyze/pg_query_go/v6/parser"
	"google.golang.org/protobuf/proto"

	"vorrang/internal/subprocess"
)

// grammarProcess is the server's grammar in processes of its own: its C code walks
// over trees by recursion, and ends its process where the stack ends.
type grammarProcess struct {
	work  *subprocess.Work
	ended *lru.Cache[[sha256.Size]byte, string] // statements that are not tried again, with why
}

var grammar = newGrammar()

func newGrammar() *grammarProcess {
	const remembered = 4096
	ended, err := lru.New[[sha256.Size]byte, string](remembered)
	if err != nil {
		panic(err) // of a size that is not above 0
	}
	limits := subprocess.Limits{Processes: 2, Time: 5 * time.Second, Memory: 768 << 20}
	return &grammarProcess{subprocess.New("grammar", limits, parseHere), ended}
}

// An answer begins with one of these. Behind a refusal stand its position, in four
// bytes, and its message.
const (
	isTree    = 't'
	isRefusal = 'r'
)

// parseHere runs in a process of its own.
func parseHere(text []byte) []byte {
	tree, err := parser.ParseToProtobuf(string(text))
	if err == nil {
		return append([]byte{isTree}, tree...)
	}
	position := 0
	var refused *parser.Error
	if errors.As(err, &refused) {
		position, err = refused.Cursorpos, errors.New(refused.Message)
	}
	return append(binary.BigEndian.AppendUint32([]byte{isRefusal}, uint32(position)), err.Error()...)
}

// tree parses a text. Its error is *Unparsed.
func (g *grammarProcess) tree(text []byte) (*pg.ParseResult, error) {
	key := sha256.Sum256(text)
	if why, known := g.ended.Get(key); known {
		return nil, &Unparsed{Message: why, Unread: true}
	}
	answer, err := g.work.Do(context.Background(), text) // it is short, and has a limit of its own
	var unreadable string
	switch {
	case errors.Is(err, subprocess.ErrEnded):
		unreadable = "the statement is nested too deep to be reviewed"
	case errors.Is(err, subprocess.ErrLate):
		unreadable = "the statement takes too long to be reviewed"
	case err != nil:
		return nil, &Unparsed{Message: err.Error(), Unread: true}
	case len(answer) > 5 && answer[0] == isRefusal:
		return nil, &Unparsed{Position: int(binary.BigEndian.Uint32(answer[1:])), Message: string(answer[5:])}
	default:
		var result pg.ParseResult
		if proto.Unmarshal(bytes.TrimPrefix(answer, []byte{isTree}), &result) == nil {
			return &result, nil
		}
		unreadable = "the statement is nested too deep to be reviewed" // the tree has more levels than are read
	}
	g.ended.Add(key, unreadable)
	return nil, &Unparsed{Message: unreadable, Unread: true}
}

// writer turns trees into text, in processes of its own for the same reason.
var writer = subprocess.New(
	"grammar-text",
	subprocess.Limits{Processes: 1, Time: 5 * time.Second, Memory: 768 << 20},
	writeHere,
)

func writeHere(tree []byte) []byte {
	text, err := parser.DeparseFromProtobuf(tree)
	if err != nil {
		return append([]byte{isRefusal}, err.Error()...)
	}
	return append([]byte{isTree}, text...)
}

// version is the grammar's, which each tree carries.
var version = sync.OnceValue(func() int32 {
	tree, err := grammar.tree([]byte("SELECT 1"))
	if err != nil {
		return 0 // then no tree is written
	}
	return tree.Version
})

// Text writes a statement's tree as SQL, without a semicolon.
func Text(node *pg.Node) (string, error) {
	tree, err := proto.Marshal(&pg.ParseResult{Version: version(), Stmts: []*pg.RawStmt{{Stmt: node}}})
	if err != nil {
		return "", fmt.Errorf("write a statement: %w", err)
	}
	answer, err := writer.Do(context.Background(), tree) // it is short, and has a limit of its own
	switch {
	case err != nil:
		return "", fmt.Errorf("write a statement: %w", err)
	case len(answer) == 0 || answer[0] != isTree:
		return "", fmt.Errorf("write a statement: %s", bytes.TrimPrefix(answer, []byte{isRefusal}))
	}
	return string(answer[1:]), nil
}
