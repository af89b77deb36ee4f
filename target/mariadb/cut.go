package mariadb

import (
	"bytes"
	"regexp"
	"strings"

	"vorrang/core/sqltext"
	"vorrang/target/words"
)

// rules are the server's, with its usual sql_mode.
// Source: https://mariadb.com/kb/en/lexical-structure/
var rules = words.Rules{
	Quotes:      "`",
	Texts:       `'"`,
	Backslashes: true,
	Hashes:      true,
	SpacedDash:  true,
	Executed:    true,
	Variables:   "@:",
	Labels:      true,
}

// delimiterLine is a command of the server's own client: the statements below it end
// with another text.
var delimiterLine = regexp.MustCompile(`(?i)^delimiter(?:[ \t]+(\S+))?[^\n]*`)

// cut returns the statements of a text, as the server's client cuts them: each ends with
// the delimiter, or with \g or \G. Bodies of routines, triggers and events, which the
// client needs another delimiter for, are also read without one.
// Source: https://mariadb.com/kb/en/delimiters/
func cut(text []byte) ([]sqltext.Statement, error) {
	c := words.NewCutter(text)
	delimiter := ";"
	var body compound
	opening := true // nothing but white space stands before, in the same line
	for at := 0; at < len(text); {
		if opening {
			if line := delimiterLine.FindSubmatch(text[at:]); line != nil &&
				!words.InWord(byteAt(text, at+len("delimiter"))) {
				if len(line[1]) == 0 || bytes.ContainsRune(line[1], '\\') {
					return nil, c.Error(
						at,
						"DELIMITER needs the text that statements are to end with, such as //, and no backslash in it",
					)
				}
				delimiter = string(line[1])
				at += len(line[0])
				continue
			}
		}
		if bytes.HasPrefix(text[at:], []byte(delimiter)) && !(delimiter == ";" && body.depth > 0) {
			c.End()
			body, opening = compound{}, false
			at += len(delimiter)
			continue
		}
		if rest := text[at:]; len(rest) > 1 && rest[0] == '\\' {
			if rest[1] != 'g' && rest[1] != 'G' {
				return nil, c.Error(
					at,
					"commands that begin with a backslash belong to the mariadb client, and are no SQL: take this out",
				)
			}
			c.End()
			body, opening = compound{}, false
			at += 2
			continue
		}
		t := rules.Next(text, at)
		switch t.Kind {
		case words.Unclosed:
			return nil, c.Unclosed(t)
		case words.Space:
			at, opening = t.To, !c.Began() && (opening || bytes.IndexByte(t.Raw(), '\n') >= 0)
			continue
		case words.Comment:
			at, opening = t.To, false
			continue
		case words.Word, words.Number, words.Variable:
			if n := strings.Index(string(t.Raw()[1:]), delimiter); n >= 0 { // END$$
				t.To = t.From + 1 + n
			}
		}
		at, opening = t.To, false
		if err := c.Add(t); err != nil {
			return nil, err
		}
		body.read(t)
	}
	c.End()
	return c.Statements(), nil
}

func byteAt(text []byte, at int) byte {
	if at < len(text) {
		return text[at]
	}
	return ' '
}

// compound follows a statement that may have a body with semicolons.
type compound struct {
	words   int
	begins  bool // SET was read first
	set     bool // it begins with SET STATEMENT: what stands behind FOR is the statement
	create  bool
	may     bool // it makes something that has a body
	depth   int  // of BEGIN and CASE
	closing bool // END was read, and what it ends is not known yet
}

func (b *compound) read(t words.Token) {
	b.words++
	if b.set || b.words == 2 && b.begins && t.Is("STATEMENT") {
		b.set = true
		if t.Is("FOR") {
			*b = compound{}
		}
		return
	}
	b.begins = b.words == 1 && t.Is("SET")
	if b.closing {
		b.closing = false
		if t.Any("IF", "LOOP", "WHILE", "REPEAT", "FOR") {
			b.depth++ // which was not counted
		}
		if t.Is("CASE") {
			return
		}
	}
	switch {
	case b.words == 1:
		b.create = t.Is("CREATE")
		b.may = t.Is("BEGIN")
		if b.may {
			b.depth = 0
		}
	case b.words == 2 && b.may && t.Is("NOT"): // BEGIN NOT ATOMIC
		b.depth = 1
	case b.words == 2 && b.may:
		b.may = false // BEGIN alone opens a transaction
	case !b.may:
		b.may = b.create && t.Any("PROCEDURE", "FUNCTION", "TRIGGER", "EVENT", "PACKAGE")
		b.create = b.create &&
			!t.Any("TABLE", "VIEW", "INDEX", "SEQUENCE", "DATABASE", "SCHEMA", "USER", "ROLE", "SERVER")
	case t.Any("BEGIN", "CASE"):
		b.depth++
	case t.Is("END") && b.depth > 0:
		b.depth--
		b.closing = true
	}
}
