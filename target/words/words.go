// Package words takes SQL apart into words, for engines that have no grammar of their
// server to hand. It knows how tokens are written and what belongs together, and
// leaves to an engine what statements mean.
package words

import (
	"bytes"
	"strings"
	"unicode/utf8"
)

// Kind is what a token of a text is.
type Kind int

const (
	Space Kind = iota
	Comment
	Word     // a keyword or a name
	Quoted   // a name in quotes
	Text     // a string or a blob
	Number   // as far as the lexer cares
	Variable // ?1, :a, @a, $a
	Mark     // one character of punctuation
	Unclosed // a string, name or comment that is never closed
)

// Rules are how a server writes its tokens.
type Rules struct {
	Quotes      string // that names stand in, such as `"` and a backquote; [ for brackets
	Texts       string // that strings stand in
	Backslashes bool   // escape in strings
	Hashes      bool   // # begins a comment
	SpacedDash  bool   // -- begins a comment only where white space follows
	Executed    bool   // /*! … */ is no comment: what is in it is run
	Variables   string // the characters that begin one
	Labels      bool   // a colon right after a name ends a label, and begins no variable
	Tcl         bool   // a variable may go on with :: and with text in parentheses, as $a::b(c)
	BOM         bool   // a byte order mark before a token is white space
}

// Token is a piece of a text.
type Token struct {
	Kind     Kind
	From, To int // in bytes
	of       []byte
}

// Raw is the token as it is in the text.
func (t Token) Raw() []byte { return t.of[t.From:t.To] }

// Is reports whether the token is a keyword, or a mark.
func (t Token) Is(one string) bool {
	return (t.Kind == Word || t.Kind == Mark) && strings.EqualFold(string(t.Raw()), one)
}

// Any reports whether the token is one of some keywords.
func (t Token) Any(list ...string) bool {
	for _, one := range list {
		if t.Is(one) {
			return true
		}
	}
	return false
}

// Name is the name that a token stands for, without its quotes. Servers take a string
// for a name where only a name can stand.
func (t Token) Name() string {
	raw := string(t.Raw())
	switch {
	case t.Kind == Word:
		return raw
	case t.Kind == Quoted || t.Kind == Text:
		inner := raw[1 : len(raw)-1]
		if raw[0] == '[' {
			return inner
		}
		return strings.ReplaceAll(inner, raw[:1]+raw[:1], raw[:1])
	}
	return ""
}

// Next is the token that stands at an offset.
func (r Rules) Next(of []byte, at int) Token {
	rest := of[at:]
	t := Token{From: at, of: of}
	size := 1
	switch c := rest[0]; {
	case r.BOM && bytes.HasPrefix(rest, byteOrderMark):
		t.Kind, size = Space, len(byteOrderMark)
	case isSpace(c):
		for size < len(rest) && isSpace(rest[size]) {
			size++
		}
		t.Kind = Space
	case r.Hashes && c == '#',
		bytes.HasPrefix(rest, []byte("--")) && (!r.SpacedDash || len(rest) == 2 || isSpace(rest[2]) || rest[2] < ' '):
		t.Kind, size = Comment, len(rest)
		if end := bytes.IndexByte(rest, '\n'); end >= 0 {
			size = end
		}
	case r.Executed && (bytes.HasPrefix(rest, []byte("/*!")) || bytes.HasPrefix(rest, []byte("/*M!"))):
		t.Kind, size = Mark, bytes.IndexByte(rest, '!')+1 // what follows is run
		for size < len(rest) && '0' <= rest[size] && rest[size] <= '9' {
			size++
		}
	case bytes.HasPrefix(rest, []byte("/*")):
		t.Kind, size = r.closed(Comment, rest, 2, "*/")
	case strings.IndexByte(r.Texts, c) >= 0:
		t.Kind, size = r.closed(Text, rest, 1, string(c))
	case (c == 'x' || c == 'X') && len(rest) > 1 && rest[1] == '\'':
		t.Kind, size = r.closed(Text, rest, 2, "'")
	case strings.IndexByte(r.Quotes, c) >= 0:
		end := string(c)
		if c == '[' {
			end = "]"
		}
		t.Kind, size = r.closed(Quoted, rest, 1, end)
	case '0' <= c && c <= '9':
		t.Kind = Number
		for size < len(rest) && (InWord(rest[size]) || rest[size] == '.') {
			size++
		}
	case r.Labels && c == ':' && at > 0 && (InWord(of[at-1]) || of[at-1] == '`'):
		t.Kind = Mark
	case strings.IndexByte(r.Variables, c) >= 0:
		t.Kind = Variable
		for size < len(rest) && (InWord(rest[size]) || c == '@' && (rest[size] == '@' || rest[size] == '.')) {
			size++
		}
		if r.Tcl && c != '?' {
			size = tclVariable(rest)
		}
		if size == 1 && c != '?' {
			t.Kind = Mark
		}
	case InWord(c):
		t.Kind = Word
		for size < len(rest) && (InWord(rest[size]) || rest[size] == '$') {
			size++
		}
	default:
		_, size = utf8.DecodeRune(rest)
		t.Kind = Mark
	}
	t.To = at + size
	return t
}

var byteOrderMark = []byte("\uFEFF")

// tclVariable is the size of a variable in the form that SQLite takes from Tcl.
// Source: tokenize.c of SQLite's sources, CC_VARALPHA.
func tclVariable(rest []byte) int {
	at, named := 1, false
	for at < len(rest) {
		switch c := rest[at]; {
		case InWord(c) || c == '$':
			named = true
			at++
		case c == '(' && named:
			for at++; at < len(rest) && rest[at] != ')' && !isSpace(rest[at]); at++ {
			}
			if at < len(rest) && rest[at] == ')' {
				at++
			}
			return at
		case c == ':' && at+1 < len(rest) && rest[at+1] == ':':
			at += 2
		default:
			return at
		}
	}
	return at
}

// closed is the size of what is opened by so many bytes and ends at a mark. A mark
// that stands twice does not end a string or a name in quotes.
func (r Rules) closed(kind Kind, rest []byte, opening int, end string) (Kind, int) {
	for at := opening; at < len(rest); at++ {
		switch {
		case kind == Text && r.Backslashes && rest[at] == '\\':
			at++
		case !bytes.HasPrefix(rest[at:], []byte(end)):
		case len(end) == 1 && end != "]" && at+1 < len(rest) && rest[at+1] == end[0]:
			at++
		default:
			return kind, at + len(end)
		}
	}
	return Unclosed, len(rest)
}

func isSpace(c byte) bool {
	return c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f' || c == '\v'
}

// InWord reports whether a byte belongs to a name, a keyword or a number.
func InWord(c byte) bool {
	return c == '_' || c >= utf8.RuneSelf || '0' <= c && c <= '9' || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z'
}

// Split takes a text apart into comments and all else but white space.
func (r Rules) Split(of []byte) (tokens, comments []Token) {
	for at := 0; at < len(of); {
		t := r.Next(of, at)
		switch at = t.To; t.Kind {
		case Space:
		case Comment:
			comments = append(comments, t)
		default:
			tokens = append(tokens, t)
		}
	}
	return tokens, comments
}

// Tokens are those of a text that are neither white space nor comments.
func (r Rules) Tokens(of []byte) []Token {
	tokens, _ := r.Split(of)
	return tokens
}

// mostRead is how many bytes of tokens are read of a statement to know what it does: rows are
// longer. Comments and white space do not count.
const mostRead = 1 << 20

// Head begins a walk over the tokens that say what a statement does. whole is false where
// there are more.
func (r Rules) Head(of []byte) (w *Walk, whole bool) {
	w, size := &Walk{}, 0
	for at := 0; at < len(of); {
		t := r.Next(of, at)
		if at = t.To; t.Kind == Space || t.Kind == Comment {
			continue
		}
		if size += t.To - t.From; size > mostRead && len(w.Tokens) > 0 {
			return w, false
		}
		w.Tokens = append(w.Tokens, t)
	}
	return w, true
}

// Walk goes over tokens from left to right.
type Walk struct {
	Tokens []Token
	At     int
}

// Walk begins a walk over a text's tokens.
func (r Rules) Walk(of []byte) *Walk { return &Walk{Tokens: r.Tokens(of)} }

// More reports whether a token is left.
func (w *Walk) More() bool { return w.At < len(w.Tokens) }

// Peek is the next token; an empty one at the end.
func (w *Walk) Peek() Token {
	if w.More() {
		return w.Tokens[w.At]
	}
	return Token{Kind: Space}
}

// Take is the next token, and goes past it.
func (w *Walk) Take() Token {
	t := w.Peek()
	if w.More() {
		w.At++
	}
	return t
}

// Pass goes past keywords if they stand next, one after the other.
func (w *Walk) Pass(list ...string) bool {
	if w.At+len(list) > len(w.Tokens) {
		return false
	}
	for i, one := range list {
		if !w.Tokens[w.At+i].Is(one) {
			return false
		}
	}
	w.At += len(list)
	return true
}

// Name takes a name, and the schema's name before it.
func (w *Walk) Name() (schema, name string) {
	name = w.Take().Name()
	if w.Pass(".") {
		schema, name = name, w.Take().Name()
	}
	return schema, name
}

// Has reports whether a keyword stands anywhere in what is left.
func (w *Walk) Has(one string) bool {
	for _, t := range w.Tokens[min(w.At, len(w.Tokens)):] {
		if t.Is(one) {
			return true
		}
	}
	return false
}

// Parts are the tokens between the commas of a list, up to the parenthesis that
// closes it, which is passed too, or to the end.
func (w *Walk) Parts() (all [][]Token) {
	depth, begins := 0, w.At
	for ; w.More(); w.At++ {
		t := w.Tokens[w.At]
		switch {
		case t.Is("("):
			depth++
		case t.Is(")") && depth == 0:
			all = append(all, w.Tokens[begins:w.At])
			w.At++
			return all
		case t.Is(")"):
			depth--
		case t.Is(",") && depth == 0:
			all = append(all, w.Tokens[begins:w.At])
			begins = w.At + 1
		}
	}
	return append(all, w.Tokens[begins:])
}

// Group takes what is in parentheses, with them.
func (w *Walk) Group() []Token {
	begins, depth := w.At, 0
	for w.More() {
		t := w.Take()
		if t.Is("(") {
			depth++
		}
		if t.Is(")") {
			depth--
		}
		if depth == 0 {
			break
		}
	}
	return w.Tokens[begins:w.At]
}
