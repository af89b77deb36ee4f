package step

import (
	"bytes"
	"regexp"
)

// comment is a /* … */ comment in a step file's text.
type comment struct {
	from, to int  // offsets in bytes; to is after the closing */, or the text's end
	first    bool // no statement stands above it
}

// blockComments finds the /* … */ comments of a text, and none that stands within
// a string, a quoted name, a body in dollar quotes, a line comment, or the data
// of a COPY.
//
// Source: https://www.postgresql.org/docs/18/sql-syntax-lexical.html
func blockComments(text []byte) []comment { return comments(text, false) }

// SizeWithoutComments is how many bytes of a text are no comments, of either kind.
func SizeWithoutComments(text []byte) int {
	size := len(text)
	for _, c := range comments(text, true) {
		size -= c.to - c.from
	}
	return size
}

// comments finds those in /* … */, and those behind -- too where lines is true.
func comments(text []byte, lines bool) []comment {
	var found []comment
	statement := -1 // where the one that is being read begins
	above := false
	for at := 0; at < len(text); {
		rest := text[at:]
		size := 1
		switch c := rest[0]; {
		case bytes.HasPrefix(rest, []byte("--")):
			size = through(rest, 0, "\n")
			if lines {
				found = append(found, comment{from: at, to: at + size, first: !above})
			}
			at += size
			continue
		case bytes.HasPrefix(rest, []byte("/*")):
			size = commentSize(rest)
			found = append(found, comment{from: at, to: at + size, first: !above})
			at += size
			continue
		case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f' || c == '\v':
			at++
			continue
		case c == ';':
			if statement >= 0 && copiesFromStdin.Match(text[statement:at]) {
				size = dataSize(rest)
			}
			statement, above = -1, true
			at += size
			continue
		case c == '\'':
			size = stringSize(rest, 1)
		case c == '"':
			size = through(rest, 1, `"`)
		case c == '$':
			if tag := dollarTag.Find(rest); tag != nil {
				size = through(rest, len(tag), string(tag))
			}
		case inWord(c):
			number := '0' <= c && c <= '9' // which ends before a dollar
			for size < len(rest) && (inWord(rest[size]) || rest[size] == '$' && !number) {
				size++
			}
			if size == 1 && (c == 'e' || c == 'E') && len(rest) > 1 && rest[1] == '\'' {
				size = stringSize(rest, 2)
			}
		}
		if statement < 0 {
			statement, above = at, true
		}
		at += size
	}
	return found
}

var (
	copiesFromStdin = regexp.MustCompile(`(?is)^copy\b.*\bfrom\s+stdin\b`)
	dollarTag       = regexp.MustCompile(`^\$(?:[A-Za-z_\x80-\x{10FFFF}][A-Za-z0-9_\x80-\x{10FFFF}]*)?\$`)
	endOfData       = regexp.MustCompile(`(?m)^\\\.\r?$`)
)

// inWord reports whether a byte belongs to a name, a keyword or a number.
func inWord(c byte) bool {
	return c == '_' || c >= 0x80 || '0' <= c && c <= '9' || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z'
}

// through is the length of a text as far as the end of what closes it, looked
// for from an offset on; all of the text if it is never closed.
func through(text []byte, from int, end string) int {
	at := bytes.Index(text[from:], []byte(end))
	if at < 0 {
		return len(text)
	}
	return from + at + len(end)
}

// stringSize is the length of the string that a text begins with; opening is the
// length of what opens it, 2 where backslashes escape (E'…').
func stringSize(text []byte, opening int) int {
	for at := opening; at < len(text); at++ {
		switch {
		case text[at] == '\\' && opening == 2:
			at++
		case text[at] == '\'':
			return at + 1 // a doubled quote begins the next string
		}
	}
	return len(text)
}

// commentSize is the length of the comment that a text begins with, comments
// within it counted, as the server does; all of the text if it is never closed.
func commentSize(text []byte) int {
	depth := 0
	for at := 0; at < len(text)-1; at++ {
		switch string(text[at : at+2]) {
		case "/*":
			depth++
			at++
		case "*/":
			depth--
			at++
			if depth == 0 {
				return at + 1
			}
		}
	}
	return len(text)
}

// dataSize is the length of a text, which begins with the semicolon of a COPY, as
// far as the end of the data below it.
func dataSize(text []byte) int {
	end := endOfData.FindIndex(text)
	if end == nil {
		return len(text)
	}
	return end[1]
}
