package grammar

import (
	"bytes"
	"regexp"
)

var dollarTag = regexp.MustCompile(`^\$(?:[A-Za-z_\x80-\xff][A-Za-z0-9_\x80-\xff]*)?\$`)

// sizeWithoutComments is how many bytes of a statement are no comments. Where it is mistaken about
// where a comment begins, a text is parsed that need not be, or is not and is treated as unread.
//
// Source: https://www.postgresql.org/docs/current/sql-syntax-lexical.html
func sizeWithoutComments(sql []byte) (size int) {
	for at := 0; at < len(sql); {
		length, comment := 1, false
		switch rest := sql[at:]; {
		case bytes.HasPrefix(rest, []byte("--")):
			length, comment = through(rest, 2, "\n"), true
		case bytes.HasPrefix(rest, []byte("/*")):
			length, comment = nested(rest), true
		case rest[0] == '\'' && at > 0 && (sql[at-1] == 'e' || sql[at-1] == 'E'):
			length = 1
			for length < len(rest) && rest[length] != '\'' {
				if rest[length] == '\\' {
					length++
				}
				length++
			}
			length = min(length+1, len(rest))
		case rest[0] == '\'' || rest[0] == '"':
			length = through(rest, 1, string(rest[:1]))
		case rest[0] == '$':
			if tag := dollarTag.Find(rest); tag != nil {
				length = through(rest, len(tag), string(tag))
			}
		}
		if at += length; !comment {
			size += length
		}
	}
	return size
}

// through is the length of a text up to the end of a mark; all of it where there is none.
func through(text []byte, from int, mark string) int {
	if end := bytes.Index(text[from:], []byte(mark)); end >= 0 {
		return from + end + len(mark)
	}
	return len(text)
}

// nested is the length of a comment that may hold others.
func nested(text []byte) int {
	depth := 0
	for at := 0; at+1 < len(text); at++ {
		switch string(text[at : at+2]) {
		case "/*":
			depth++
			at++
		case "*/":
			depth--
			at++
		}
		if depth == 0 {
			return at + 1
		}
	}
	return len(text)
}

// IsData reports whether a statement that is too long to be parsed adds rows by VALUES only, as
// far as its first words tell.
func IsData(sql []byte) bool { return insertsValues.Match(sql) }

var insertsValues = regexp.MustCompile(
	`(?is)^\s*INSERT\s+INTO\s+[^\s(]+\s*(?:\([^()]*\)\s*)?(?:OVERRIDING\s+(?:SYSTEM|USER)\s+VALUE\s+)?VALUES\s*\(`,
)
