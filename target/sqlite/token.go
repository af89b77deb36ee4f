package sqlite

import (
	"bytes"
	"strings"
	"unicode"
	"unicode/utf8"
)

// tokenKind is what a token of a text is.
type tokenKind int

const (
	space tokenKind = iota
	comment
	word     // a keyword or a name
	quoted   // a name in ", ` or []
	text     // a string or a blob
	number   // as far as the lexer cares
	variable // ?1, :a, @a, $a
	mark     // one character of punctuation
	unclosed // a string, name or comment that is never closed
)

type token struct {
	kind     tokenKind
	from, to int // in bytes
	of       []byte
}

func (t token) raw() []byte { return t.of[t.from:t.to] }

// is reports whether the token is a keyword, or a mark.
func (t token) is(one string) bool {
	return (t.kind == word || t.kind == mark) && strings.EqualFold(string(t.raw()), one)
}

// any reports whether the token is one of some keywords.
func (t token) any(words ...string) bool {
	for _, one := range words {
		if t.is(one) {
			return true
		}
	}
	return false
}

// name is the name that a token stands for, without its quotes. SQLite takes a
// string for a name where only a name can stand.
func (t token) name() string {
	raw := string(t.raw())
	switch {
	case t.kind == word:
		return raw
	case t.kind == quoted || t.kind == text:
		inner := raw[1 : len(raw)-1]
		if raw[0] == '[' {
			return inner
		}
		return strings.ReplaceAll(inner, raw[:1]+raw[:1], raw[:1])
	}
	return ""
}

// next is the token that stands at an offset, by SQLite's rules.
// Source: https://www.sqlite.org/lang_expr.html, and tokenize.c of its sources.
func next(of []byte, at int) token {
	rest := of[at:]
	t := token{from: at, of: of}
	size := 1
	switch c := rest[0]; {
	case isSpace(c):
		for size < len(rest) && isSpace(rest[size]) {
			size++
		}
		t.kind = space
	case bytes.HasPrefix(rest, []byte("--")):
		t.kind, size = comment, len(rest)
		if end := bytes.IndexByte(rest, '\n'); end >= 0 {
			size = end
		}
	case bytes.HasPrefix(rest, []byte("/*")):
		t.kind, size = closed(comment, rest, 2, "*/")
	case c == '\'':
		t.kind, size = closed(text, rest, 1, "'")
	case (c == 'x' || c == 'X') && len(rest) > 1 && rest[1] == '\'':
		t.kind, size = closed(text, rest, 2, "'")
	case c == '"' || c == '`':
		t.kind, size = closed(quoted, rest, 1, string(c))
	case c == '[':
		t.kind, size = closed(quoted, rest, 1, "]")
	case '0' <= c && c <= '9':
		t.kind = number
		for size < len(rest) && (inWord(rest[size]) || rest[size] == '.') {
			size++
		}
	case c == '?' || c == ':' || c == '@' || c == '$':
		t.kind = variable
		for size < len(rest) && inWord(rest[size]) {
			size++
		}
		if size == 1 && c != '?' {
			t.kind = mark
		}
	case inWord(c):
		t.kind = word
		for size < len(rest) && (inWord(rest[size]) || rest[size] == '$') {
			size++
		}
	default:
		_, size = utf8.DecodeRune(rest)
		t.kind = mark
	}
	t.to = at + size
	return t
}

// closed is the size of what is opened by so many bytes and ends at a mark. A mark
// that stands twice does not end a string or a name in quotes.
func closed(kind tokenKind, rest []byte, opening int, end string) (tokenKind, int) {
	for at := opening; ; {
		found := bytes.Index(rest[at:], []byte(end))
		if found < 0 {
			return unclosed, len(rest)
		}
		at += found + len(end)
		if len(end) > 1 || end == "]" || at >= len(rest) || rest[at] != end[0] {
			return kind, at
		}
		at++
	}
}

func isSpace(c byte) bool {
	return c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f'
}

func inWord(c byte) bool {
	return c == '_' || c >= utf8.RuneSelf || '0' <= c && c <= '9' || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z'
}

// tokens are those of a text that are neither white space nor comments.
func tokens(of []byte) []token {
	var all []token
	for at := 0; at < len(of); {
		t := next(of, at)
		if at = t.to; t.kind != space && t.kind != comment {
			all = append(all, t)
		}
	}
	return all
}

// plainName is how a name is written: in quotes only where it needs them.
func plainName(name string) string {
	plain := name != "" && !isKeyword(name)
	for i, r := range name {
		plain = plain && (r == '_' || unicode.IsLetter(r) || i > 0 && unicode.IsDigit(r))
	}
	if plain {
		return name
	}
	return identifier(name)
}

func identifier(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// isKeyword knows the words that cannot stand for a name.
// Source: https://www.sqlite.org/lang_keywords.html, those that parse.y has no
// fallback for.
func isKeyword(name string) bool {
	_, is := reserved[strings.ToUpper(name)]
	return is
}

var reserved = func() map[string]struct{} {
	all := map[string]struct{}{}
	for _, name := range strings.Fields(`ADD ALL ALTER AND AS AUTOINCREMENT BETWEEN CASE CHECK COLLATE COMMIT CONSTRAINT CREATE CROSS DEFAULT DEFERRABLE DELETE
		DISTINCT DROP ELSE ESCAPE EXISTS FOREIGN FROM FULL GROUP HAVING IN INDEX INNER INSERT INTERSECT INTO IS ISNULL JOIN LEFT LIMIT NATURAL NOT NOTNULL NULL
		ON OR ORDER OUTER PRIMARY REFERENCES RETURNING RIGHT SELECT SET TABLE THEN TO TRANSACTION UNION UNIQUE UPDATE USING VALUES WHEN WHERE EXCEPT`) {
		all[name] = struct{}{}
	}
	return all
}()
