package step

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/width"
)

// Excerpt shows a line of a file with a caret below a column of it, as a terminal
// shows it; empty for no line.
func Excerpt(line int, source string, caret int) string {
	if source == "" {
		return ""
	}
	number := strconv.Itoa(line)
	return fmt.Sprintf(
		"  %s | %s\n  %s | %s^\n",
		number, source,
		strings.Repeat(" ", len(number)),
		indent(source, caret),
	)
}

// indent is the blank that puts a caret under a column: tabs stay, and wide
// characters take two places.
func indent(source string, caret int) string {
	var b strings.Builder
	for i, r := range []rune(source) {
		if i+1 >= caret {
			break
		}
		switch kind := width.LookupRune(r).Kind(); {
		case r == '\t':
			b.WriteRune(r)
		case kind == width.EastAsianWide || kind == width.EastAsianFullwidth:
			b.WriteString("  ")
		default:
			b.WriteByte(' ')
		}
	}
	return b.String()
}

// SourceLine returns the line around an offset, shortened to what a terminal
// shows, and the column of the offset in it, from 1.
func SourceLine(text []byte, offset int) (line string, caret int) {
	const before, most = 80, 120                                     // characters
	const far = utf8.UTFMax * most                                   // bytes
	start, end := max(0, offset-far-1), min(len(text), offset+far+1) // a byte more tells that the line goes on
	start += bytes.LastIndexByte(text[start:offset], '\n') + 1
	if at := bytes.IndexByte(text[offset:end], '\n'); at >= 0 {
		end = offset + at
	}
	left, right := []rune(string(tail(text[start:offset], far))), []rune(string(Head(text[offset:end], far)))
	if len(left) > before {
		left = append([]rune("…"), left[len(left)-before:]...)
	}
	if room := most - len(left); len(right) > room {
		right = append(right[:room:room], '…')
	}
	return string(left) + string(right), len(left) + 1
}

// Head is the beginning of a text, of whole characters, up to so many bytes.
func Head(text []byte, most int) []byte {
	if len(text) <= most {
		return text
	}
	for most > 0 && !utf8.RuneStart(text[most]) {
		most--
	}
	return text[:most]
}

func tail(text []byte, most int) []byte {
	if len(text) <= most {
		return text
	}
	at := len(text) - most
	for at < len(text) && !utf8.RuneStart(text[at]) {
		at++
	}
	return text[at:]
}
