package sqlite

import (
	"fmt"
	"strings"

	"vorrang/core/evidence"
	"vorrang/core/sqltext"
)

// verb is what a statement does, by its first words.
type verb int

const (
	other     verb = iota
	reads          // SELECT, VALUES, EXPLAIN
	changes        // INSERT, UPDATE, DELETE, REPLACE
	creates        // an object
	drops          // an object
	renames        // a table
	recolumns      // adds, drops or renames a column
	opens          // BEGIN
	closes         // COMMIT, END, ROLLBACK
	saves          // SAVEPOINT and its like
	sets           // PRAGMA
	attaches       // ATTACH, DETACH
	vacuums        // VACUUM
	tends          // ANALYZE, REINDEX
)

// shape is a statement as far as its tokens tell.
type shape struct {
	verb      verb
	word      string        // of changes: INSERT, UPDATE, DELETE
	kind      evidence.Kind // of creates and drops
	temporary bool
	of        string // the table that a trigger or a column belongs to, or a virtual table's module
	name      string
	new       string   // of renames
	columns   []string // of a table that is created
	named     []string // its constraints that have names
	where     bool     // WHERE stands in it, outside of parentheses
	from      bool     // FROM does
	into      bool     // VACUUM INTO
	limited   bool     // changes: :batch stands in it
}

// words walks over a statement's tokens.
type words struct {
	tokens []token
	at     int
}

func (w *words) peek() token {
	if w.at < len(w.tokens) {
		return w.tokens[w.at]
	}
	return token{}
}

func (w *words) take() token {
	t := w.peek()
	if w.at < len(w.tokens) {
		w.at++
	}
	return t
}

// pass takes keywords if they stand next, one after the other.
func (w *words) pass(list ...string) bool {
	if w.at+len(list) > len(w.tokens) {
		return false
	}
	for i, one := range list {
		if !w.tokens[w.at+i].is(one) {
			return false
		}
	}
	w.at += len(list)
	return true
}

// name takes a name, and the schema's name before it.
func (w *words) name() (schema, name string) {
	name = w.take().name()
	if w.pass(".") {
		schema, name = name, w.take().name()
	}
	return schema, name
}

// shapeOf reads a statement.
func shapeOf(s sqltext.Statement) shape {
	const most = 1 << 20 // bytes of a statement that are read: rows are longer
	w := &words{tokens: tokens(s.SQL[:min(len(s.SQL), most)])}
	var is shape
	switch {
	case w.pass("CREATE"):
		is = w.create()
	case w.pass("DROP"):
		is = w.drop()
	case w.pass("ALTER", "TABLE"):
		is = w.alter()
	case w.pass("PRAGMA"):
		is.verb = sets
		_, is.name = w.name()
		is.name = strings.ToLower(is.name)
	case w.pass("BEGIN"):
		is.verb = opens
	case w.pass("COMMIT"), w.pass("END"):
		is.verb = closes
	case w.peek().is("ROLLBACK"):
		is.verb = closes
		for _, t := range w.tokens {
			if t.is("TO") {
				is.verb = saves
			}
		}
	case w.peek().any("SAVEPOINT", "RELEASE"):
		is.verb = saves
	case w.peek().any("ATTACH", "DETACH"):
		is.verb = attaches
	case w.pass("VACUUM"):
		is.verb = vacuums
		for _, t := range w.tokens {
			is.into = is.into || t.is("INTO")
		}
	case w.peek().any("SELECT", "VALUES", "EXPLAIN"):
		is.verb = reads
	case w.peek().any("ANALYZE", "REINDEX"):
		is.verb = tends
	case w.peek().any("INSERT", "REPLACE", "UPDATE", "DELETE", "WITH"):
		is = w.change()
		is.limited = s.HasBatch()
	}
	return is
}

func (w *words) create() shape {
	is := shape{verb: creates}
	is.temporary = w.pass("TEMP") || w.pass("TEMPORARY")
	unique := w.pass("UNIQUE")
	virtual := w.pass("VIRTUAL")
	kinds := map[string]evidence.Kind{"TABLE": evidence.Table, "INDEX": evidence.Index, "VIEW": evidence.View, "TRIGGER": evidence.Trigger}
	kind, known := kinds[strings.ToUpper(string(w.take().raw()))]
	if !known || unique && kind != evidence.Index {
		return shape{}
	}
	is.kind = kind
	w.pass("IF", "NOT", "EXISTS")
	var schema string
	schema, is.name = w.name()
	is.temporary = is.temporary || strings.EqualFold(schema, "temp")
	switch {
	case kind == evidence.Trigger:
		for w.at < len(w.tokens) && !w.pass("ON") {
			w.at++
		}
		_, is.of = w.name()
	case virtual && w.pass("USING"):
		is.of = w.take().name()
	case kind == evidence.Table && w.pass("("):
		table := readTable(w)
		for _, c := range table.columns {
			is.columns = append(is.columns, c.name)
		}
		for _, c := range table.constraints {
			if c.name != "" {
				is.named = append(is.named, c.name)
			}
		}
	}
	return is
}

func (w *words) drop() shape {
	kinds := map[string]evidence.Kind{"TABLE": evidence.Table, "INDEX": evidence.Index, "VIEW": evidence.View, "TRIGGER": evidence.Trigger}
	kind, known := kinds[strings.ToUpper(string(w.take().raw()))]
	if !known {
		return shape{}
	}
	w.pass("IF", "EXISTS")
	_, name := w.name()
	return shape{verb: drops, kind: kind, name: name}
}

func (w *words) alter() shape {
	_, table := w.name()
	switch {
	case w.pass("RENAME", "TO"):
		return shape{verb: renames, kind: evidence.Table, name: table, new: w.take().name()}
	case w.pass("RENAME"):
		w.pass("COLUMN")
		is := shape{verb: recolumns, kind: evidence.Column, of: table, name: w.take().name()}
		w.pass("TO")
		is.new = w.take().name()
		return is
	case w.pass("ADD"):
		w.pass("COLUMN")
		return shape{verb: recolumns, kind: evidence.Column, of: table, new: w.take().name()}
	case w.pass("DROP"):
		w.pass("COLUMN")
		return shape{verb: recolumns, kind: evidence.Column, of: table, name: w.take().name()}
	}
	return shape{kind: evidence.Table, name: table}
}

// change reads a statement that changes rows, or a query behind WITH.
func (w *words) change() shape {
	is := shape{verb: reads}
	depth := 0
	for w.at < len(w.tokens) {
		t := w.take()
		switch {
		case t.is("("):
			depth++
		case t.is(")"):
			depth--
		case depth > 0:
		case t.is("WHERE"):
			is.where = true
		case t.is("FROM"):
			is.from = true
			if is.word == "DELETE" && is.name == "" {
				_, is.name = w.name()
			}
		case is.word != "":
		case t.is("SELECT"), t.is("VALUES"):
			return is
		case t.is("UPDATE"):
			is.verb, is.word = changes, "UPDATE"
			if w.pass("OR") {
				w.take()
			}
			_, is.name = w.name()
		case t.any("INSERT", "REPLACE"):
			is.verb, is.word = changes, "INSERT"
			for w.at < len(w.tokens) && !w.pass("INTO") {
				w.at++
			}
			_, is.name = w.name()
		case t.is("DELETE"):
			is.verb, is.word = changes, "DELETE"
		}
	}
	return is
}

// leaves tells a net what one statement leaves in the file.
func leaves(net *evidence.Net, s sqltext.Statement) {
	is := shapeOf(s)
	object := evidence.Object{Kind: is.kind, Name: is.name}
	switch {
	case is.verb == creates && is.temporary:
		net.Nothing()
	case is.verb == creates && is.kind == evidence.Trigger:
		net.Made(object) // its name is the file's, whatever table it is on
	case is.verb == creates:
		net.Made(object)
		for _, column := range is.columns {
			net.Made(evidence.Object{Kind: evidence.Column, Of: is.name, Name: column})
		}
	case is.verb == drops:
		net.Gone(object)
	case is.verb == renames:
		net.Gone(object)
		net.Made(evidence.Object{Kind: evidence.Table, Name: is.new})
	case is.verb == recolumns:
		net.There(evidence.Object{Kind: evidence.Table, Name: is.of})
		if is.name != "" {
			net.Gone(evidence.Object{Kind: evidence.Column, Of: is.of, Name: is.name})
		}
		net.Made(evidence.Object{Kind: evidence.Column, Of: is.of, Name: is.new})
	}
}

// lost says what a statement takes away for good; empty for nothing.
func lost(is shape) string {
	switch {
	case is.verb == drops && is.kind == evidence.Table:
		return "drops the table " + is.name
	case is.verb == recolumns && is.new == "":
		return fmt.Sprintf("drops the column %s.%s", is.of, is.name)
	case is.word == "DELETE":
		return "deletes rows of " + is.name
	case is.word == "UPDATE":
		return "overwrites values of " + is.name
	}
	return ""
}
