package sqlite

import (
	"slices"
	"strings"

	"vorrang/target/words"
)

// A table's columns and constraints are read from the text of its CREATE TABLE, which
// SQLite keeps: it tells nowhere else of checks, collations and generated columns.
// Source: https://www.sqlite.org/lang_createtable.html

// table is what a CREATE TABLE says after its opening parenthesis.
type table struct {
	columns     []column
	constraints []constraint
	options     []string // STRICT, WITHOUT ROWID
}

type column struct {
	name, typ, value, generated, collation string // value is the default
	notNull                                bool
	increments                             bool // AUTOINCREMENT
}

type constraint struct {
	name       string // empty for most
	definition string // such as CHECK (level_cm > 0), always as a table's constraint
}

// readTable reads up to the end of a statement, from after the parenthesis that
// opens the columns.
func readTable(w *words.Walk) table {
	var t table
	for _, part := range w.Parts() {
		p := &words.Walk{Tokens: part}
		if p.Peek().Any("CONSTRAINT", "PRIMARY", "UNIQUE", "CHECK", "FOREIGN") {
			t.constraint(p)
		} else {
			t.column(p)
		}
	}
	for w.More() {
		switch {
		case w.Pass("WITHOUT", "ROWID"):
			t.options = append(t.options, "WITHOUT ROWID")
		case w.Pass("STRICT"):
			t.options = append(t.options, "STRICT")
		default:
			w.At++
		}
	}
	slices.Sort(t.options)
	return t
}

func (t *table) constraint(w *words.Walk) {
	var c constraint
	if w.Pass("CONSTRAINT") {
		c.name = w.Take().Name()
	}
	c.definition = inWords(w.Tokens[w.At:])
	t.constraints = append(t.constraints, c)
}

var columnConstraints = []string{
	"CONSTRAINT", "PRIMARY", "NOT", "NULL", "UNIQUE", "CHECK", "DEFAULT", "COLLATE", "REFERENCES", "GENERATED", "AS",
}

func (t *table) column(w *words.Walk) {
	c := column{name: w.Take().Name()}
	begins := w.At
	for w.More() && !w.Peek().Any(columnConstraints...) {
		if w.Peek().Is("(") {
			w.Group()
		} else {
			w.At++
		}
	}
	c.typ = strings.ToUpper(inWords(w.Tokens[begins:w.At])) // its case means nothing
	quoted := plainName(c.name)
	name := "" // of the next constraint
	add := func(definition string) {
		t.constraints = append(t.constraints, constraint{name: name, definition: definition})
		name = ""
	}
	for w.More() {
		switch {
		case w.Pass("CONSTRAINT"):
			name = w.Take().Name()
		case w.Pass("PRIMARY", "KEY"):
			order := ""
			if w.Pass("DESC") {
				order = " DESC"
			}
			w.Pass("ASC")
			conflict := conflict(w)
			c.increments = w.Pass("AUTOINCREMENT")
			add("PRIMARY KEY (" + quoted + order + ")" + conflict)
		case w.Pass("NOT", "NULL"):
			c.notNull = true
			if conflict := conflict(w); conflict != "" {
				add("CHECK (" + quoted + " IS NOT NULL)" + conflict)
			}
		case w.Pass("NULL"):
		case w.Pass("UNIQUE"):
			add("UNIQUE (" + quoted + ")" + conflict(w))
		case w.Pass("CHECK"):
			add("CHECK " + inWords(w.Group()) + conflict(w))
		case w.Pass("DEFAULT"):
			c.value = value(w)
		case w.Pass("COLLATE"):
			c.collation = strings.ToUpper(w.Take().Name())
		case w.Peek().Is("REFERENCES"):
			add("FOREIGN KEY (" + quoted + ") " + clause(w))
		case w.Pass("GENERATED", "ALWAYS"):
		case w.Pass("AS"):
			c.generated = inWords(w.Group())
			if w.Pass("STORED") {
				c.generated += " STORED"
			}
			w.Pass("VIRTUAL")
		default:
			w.At++
		}
	}
	t.columns = append(t.columns, c)
}

func conflict(w *words.Walk) string {
	if w.Pass("ON", "CONFLICT") {
		return " ON CONFLICT " + strings.ToUpper(string(w.Take().Raw()))
	}
	return ""
}

// value takes a default: one in parentheses, or a literal with its sign.
func value(w *words.Walk) string {
	if w.Peek().Is("(") {
		return inWords(w.Group())
	}
	begins := w.At
	if w.Peek().Is("+") || w.Peek().Is("-") {
		w.Take()
	}
	w.Take()
	return inWords(w.Tokens[begins:w.At])
}

// clause takes a foreign key's clause, up to the next constraint.
func clause(w *words.Walk) string {
	begins := w.At
	w.Take()
	w.Name()
	if w.Peek().Is("(") {
		w.Group()
	}
	for w.More() {
		switch {
		case w.Pass("ON", "DELETE"), w.Pass("ON", "UPDATE"):
			if !w.Pass("SET", "NULL") && !w.Pass("SET", "DEFAULT") && !w.Pass("NO", "ACTION") {
				w.Take()
			}
		case w.Pass("MATCH"):
			w.Take()
		case w.Pass("NOT", "DEFERRABLE"),
			w.Pass("DEFERRABLE"),
			w.Pass("INITIALLY", "DEFERRED"),
			w.Pass("INITIALLY", "IMMEDIATE"):
		default:
			return inWords(w.Tokens[begins:w.At])
		}
	}
	return inWords(w.Tokens[begins:w.At])
}

// inWords writes tokens in one way, whatever white space, comments and quotes they
// were written with: keywords in capitals, names without quotes that they do not
// need.
func inWords(tokens []words.Token) string {
	var b strings.Builder
	for i, t := range tokens {
		raw := string(t.Raw())
		switch {
		case t.Kind == words.Word && (isKeyword(raw) || i > 0 && isClause(tokens[i-1], t)):
			raw = strings.ToUpper(raw)
		case t.Kind == words.Quoted:
			raw = plainName(t.Name())
		}
		if i > 0 && spaced(tokens[i-1], t) && !isSign(tokens[:i]) {
			b.WriteByte(' ')
		}
		b.WriteString(raw)
	}
	return b.String()
}

// isSign reports whether tokens end with the sign of a number that follows.
func isSign(before []words.Token) bool {
	n := len(before)
	if !before[n-1].Is("-") && !before[n-1].Is("+") {
		return false
	}
	if n == 1 {
		return true
	}
	left := before[n-2]
	return left.Kind == words.Mark && !left.Is(")") || left.Kind == words.Word && isKeyword(string(left.Raw()))
}

// isClause knows the keywords of keys that could be names elsewhere, by what stands
// before them.
func isClause(before, t words.Token) bool {
	switch {
	case t.Is("KEY"):
		return before.Any("PRIMARY", "FOREIGN")
	case t.Any("CASCADE", "RESTRICT", "NO"):
		return before.Any("DELETE", "UPDATE")
	case t.Is("ACTION"):
		return before.Is("NO")
	case t.Is("CONFLICT"):
		return before.Is("ON")
	case t.Any("REPLACE", "IGNORE", "ABORT", "FAIL", "ROLLBACK"):
		return before.Is("CONFLICT")
	case t.Is("INITIALLY"):
		return before.Is("DEFERRABLE")
	case t.Is("IMMEDIATE"):
		return before.Is("INITIALLY")
	}
	return false
}

func spaced(before, t words.Token) bool {
	switch {
	case before.Is("(") || before.Is(".") || t.Is(")") || t.Is(",") || t.Is("."):
		return false
	case t.Is("("):
		raw := string(before.Raw())
		return before.Kind != words.Word || isKeyword(raw) ||
			before.Is("KEY") // no space before a function's or a type's
	case before.Kind == words.Mark && t.Kind == words.Mark: // an operator of two characters, if they stood together
		return before.To != t.From
	}
	return true
}
