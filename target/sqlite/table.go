package sqlite

import (
	"slices"
	"strings"
)

// A table's columns and constraints are read from the text of its CREATE TABLE, which
// SQLite keeps: it tells nowhere else of checks, collations and generated columns.
// Source: https://www.sqlite.org/lang_createtable.html

// table is what a CREATE TABLE says behind its opening parenthesis.
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

// readTable reads up to the end of a statement, from behind the parenthesis that
// opens the columns.
func readTable(w *words) table {
	var t table
	for _, part := range w.parts() {
		p := &words{tokens: part}
		if p.peek().any("CONSTRAINT", "PRIMARY", "UNIQUE", "CHECK", "FOREIGN") {
			t.constraint(p)
		} else {
			t.column(p)
		}
	}
	for w.at < len(w.tokens) {
		switch {
		case w.pass("WITHOUT", "ROWID"):
			t.options = append(t.options, "WITHOUT ROWID")
		case w.pass("STRICT"):
			t.options = append(t.options, "STRICT")
		default:
			w.at++
		}
	}
	slices.Sort(t.options)
	return t
}

// parts are the tokens between the commas of a list, up to the parenthesis that
// closes it.
func (w *words) parts() (all [][]token) {
	depth, begins := 0, w.at
	for ; w.at < len(w.tokens); w.at++ {
		t := w.tokens[w.at]
		switch {
		case t.is("("):
			depth++
		case t.is(")") && depth == 0:
			all = append(all, w.tokens[begins:w.at])
			w.at++
			return all
		case t.is(")"):
			depth--
		case t.is(",") && depth == 0:
			all = append(all, w.tokens[begins:w.at])
			begins = w.at + 1
		}
	}
	return all
}

// group takes what stands in parentheses, with them.
func (w *words) group() string {
	begins, depth := w.at, 0
	for w.at < len(w.tokens) {
		t := w.take()
		if t.is("(") {
			depth++
		}
		if t.is(")") {
			depth--
		}
		if depth == 0 {
			break
		}
	}
	return inWords(w.tokens[begins:w.at])
}

func (t *table) constraint(w *words) {
	var c constraint
	if w.pass("CONSTRAINT") {
		c.name = w.take().name()
	}
	c.definition = inWords(w.tokens[w.at:])
	t.constraints = append(t.constraints, c)
}

var columnConstraints = []string{"CONSTRAINT", "PRIMARY", "NOT", "NULL", "UNIQUE", "CHECK", "DEFAULT", "COLLATE", "REFERENCES", "GENERATED", "AS"}

func (t *table) column(w *words) {
	c := column{name: w.take().name()}
	begins := w.at
	for w.at < len(w.tokens) && !w.peek().any(columnConstraints...) {
		if w.peek().is("(") {
			w.group()
		} else {
			w.at++
		}
	}
	c.typ = strings.ToUpper(inWords(w.tokens[begins:w.at])) // its case means nothing
	quoted := plainName(c.name)
	name := "" // of the next constraint
	add := func(definition string) {
		t.constraints = append(t.constraints, constraint{name: name, definition: definition})
		name = ""
	}
	for w.at < len(w.tokens) {
		switch {
		case w.pass("CONSTRAINT"):
			name = w.take().name()
		case w.pass("PRIMARY", "KEY"):
			order := ""
			if w.pass("DESC") {
				order = " DESC"
			}
			w.pass("ASC")
			conflict := w.conflict()
			c.increments = w.pass("AUTOINCREMENT")
			add("PRIMARY KEY (" + quoted + order + ")" + conflict)
		case w.pass("NOT", "NULL"):
			c.notNull = true
			if conflict := w.conflict(); conflict != "" {
				add("CHECK (" + quoted + " IS NOT NULL)" + conflict)
			}
		case w.pass("NULL"):
		case w.pass("UNIQUE"):
			add("UNIQUE (" + quoted + ")" + w.conflict())
		case w.pass("CHECK"):
			add("CHECK " + w.group() + w.conflict())
		case w.pass("DEFAULT"):
			c.value = w.value()
		case w.pass("COLLATE"):
			c.collation = strings.ToUpper(w.take().name())
		case w.peek().is("REFERENCES"):
			add("FOREIGN KEY (" + quoted + ") " + w.references())
		case w.pass("GENERATED", "ALWAYS"):
		case w.pass("AS"):
			c.generated = w.group()
			if w.pass("STORED") {
				c.generated += " STORED"
			}
			w.pass("VIRTUAL")
		default:
			w.at++
		}
	}
	t.columns = append(t.columns, c)
}

func (w *words) conflict() string {
	if w.pass("ON", "CONFLICT") {
		return " ON CONFLICT " + strings.ToUpper(string(w.take().raw()))
	}
	return ""
}

// value takes a default: one in parentheses, or a literal with its sign.
func (w *words) value() string {
	if w.peek().is("(") {
		return w.group()
	}
	begins := w.at
	if w.peek().is("+") || w.peek().is("-") {
		w.take()
	}
	w.take()
	return inWords(w.tokens[begins:w.at])
}

// references takes a foreign key's clause, up to the next constraint.
func (w *words) references() string {
	begins := w.at
	w.take()
	w.name()
	if w.peek().is("(") {
		w.group()
	}
	for w.at < len(w.tokens) {
		switch {
		case w.pass("ON", "DELETE"), w.pass("ON", "UPDATE"):
			if !w.pass("SET", "NULL") && !w.pass("SET", "DEFAULT") && !w.pass("NO", "ACTION") {
				w.take()
			}
		case w.pass("MATCH"):
			w.take()
		case w.pass("NOT", "DEFERRABLE"), w.pass("DEFERRABLE"), w.pass("INITIALLY", "DEFERRED"), w.pass("INITIALLY", "IMMEDIATE"):
		default:
			return inWords(w.tokens[begins:w.at])
		}
	}
	return inWords(w.tokens[begins:w.at])
}

// inWords writes tokens in one way, whatever white space, comments and quotes they
// were written with: keywords in capitals, names without quotes that they do not
// need.
func inWords(tokens []token) string {
	var b strings.Builder
	for i, t := range tokens {
		raw := string(t.raw())
		switch {
		case t.kind == word && (isKeyword(raw) || i > 0 && isClause(tokens[i-1], t)):
			raw = strings.ToUpper(raw)
		case t.kind == quoted:
			raw = plainName(t.name())
		}
		if i > 0 && spaced(tokens[i-1], t) && !isSign(tokens[:i]) {
			b.WriteByte(' ')
		}
		b.WriteString(raw)
	}
	return b.String()
}

// isSign reports whether tokens end with the sign of a number that follows.
func isSign(before []token) bool {
	n := len(before)
	if !before[n-1].is("-") && !before[n-1].is("+") {
		return false
	}
	if n == 1 {
		return true
	}
	left := before[n-2]
	return left.kind == mark && !left.is(")") || left.kind == word && isKeyword(string(left.raw()))
}

// isClause knows the keywords of keys that could be names elsewhere, by what stands
// before them.
func isClause(before, t token) bool {
	switch {
	case t.is("KEY"):
		return before.any("PRIMARY", "FOREIGN")
	case t.any("CASCADE", "RESTRICT", "NO"):
		return before.any("DELETE", "UPDATE")
	case t.is("ACTION"):
		return before.is("NO")
	case t.is("CONFLICT"):
		return before.is("ON")
	case t.any("REPLACE", "IGNORE", "ABORT", "FAIL", "ROLLBACK"):
		return before.is("CONFLICT")
	case t.is("INITIALLY"):
		return before.is("DEFERRABLE")
	case t.is("IMMEDIATE"):
		return before.is("INITIALLY")
	}
	return false
}

func spaced(before, t token) bool {
	switch {
	case before.is("(") || before.is(".") || t.is(")") || t.is(",") || t.is("."):
		return false
	case t.is("("):
		raw := string(before.raw())
		return before.kind != word || isKeyword(raw) || before.is("KEY") // no space before a function's or a type's
	case before.kind == mark && t.kind == mark: // an operator of two characters, if they stood together
		return before.to != t.from
	}
	return true
}
