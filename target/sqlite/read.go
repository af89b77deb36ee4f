package sqlite

import (
	"fmt"
	"strings"

	"vorrang/core/evidence"
	"vorrang/core/sqltext"
	"vorrang/target/words"
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

// shapeOf reads a statement.
func shapeOf(s sqltext.Statement) shape {
	const most = 1 << 20 // bytes of a statement that are read: rows are longer
	w := rules.Walk(s.SQL[:min(len(s.SQL), most)])
	var is shape
	switch {
	case w.Pass("CREATE"):
		is = readCreate(w)
	case w.Pass("DROP"):
		is = readDrop(w)
	case w.Pass("ALTER", "TABLE"):
		is = readAlter(w)
	case w.Pass("PRAGMA"):
		is.verb = sets
		_, is.name = w.Name()
		is.name = strings.ToLower(is.name)
	case w.Pass("BEGIN"):
		is.verb = opens
	case w.Pass("COMMIT"), w.Pass("END"):
		is.verb = closes
	case w.Peek().Is("ROLLBACK"):
		is.verb = closes
		for _, t := range w.Tokens {
			if t.Is("TO") {
				is.verb = saves
			}
		}
	case w.Peek().Any("SAVEPOINT", "RELEASE"):
		is.verb = saves
	case w.Peek().Any("ATTACH", "DETACH"):
		is.verb = attaches
	case w.Pass("VACUUM"):
		is.verb = vacuums
		for _, t := range w.Tokens {
			is.into = is.into || t.Is("INTO")
		}
	case w.Peek().Any("SELECT", "VALUES", "EXPLAIN"):
		is.verb = reads
	case w.Peek().Any("ANALYZE", "REINDEX"):
		is.verb = tends
	case w.Peek().Any("INSERT", "REPLACE", "UPDATE", "DELETE", "WITH"):
		is = readChange(w)
		is.limited = s.HasBatch()
	}
	return is
}

func readCreate(w *words.Walk) shape {
	is := shape{verb: creates}
	is.temporary = w.Pass("TEMP") || w.Pass("TEMPORARY")
	unique := w.Pass("UNIQUE")
	virtual := w.Pass("VIRTUAL")
	kinds := map[string]evidence.Kind{"TABLE": evidence.Table, "INDEX": evidence.Index, "VIEW": evidence.View, "TRIGGER": evidence.Trigger}
	kind, known := kinds[strings.ToUpper(string(w.Take().Raw()))]
	if !known || unique && kind != evidence.Index {
		return shape{}
	}
	is.kind = kind
	w.Pass("IF", "NOT", "EXISTS")
	var schema string
	schema, is.name = w.Name()
	is.temporary = is.temporary || strings.EqualFold(schema, "temp")
	switch {
	case kind == evidence.Trigger:
		for w.More() && !w.Pass("ON") {
			w.At++
		}
		_, is.of = w.Name()
	case virtual && w.Pass("USING"):
		is.of = w.Take().Name()
	case kind == evidence.Table && w.Pass("("):
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

func readDrop(w *words.Walk) shape {
	kinds := map[string]evidence.Kind{"TABLE": evidence.Table, "INDEX": evidence.Index, "VIEW": evidence.View, "TRIGGER": evidence.Trigger}
	kind, known := kinds[strings.ToUpper(string(w.Take().Raw()))]
	if !known {
		return shape{}
	}
	w.Pass("IF", "EXISTS")
	_, name := w.Name()
	return shape{verb: drops, kind: kind, name: name}
}

func readAlter(w *words.Walk) shape {
	_, table := w.Name()
	switch {
	case w.Pass("RENAME", "TO"):
		return shape{verb: renames, kind: evidence.Table, name: table, new: w.Take().Name()}
	case w.Pass("RENAME"):
		w.Pass("COLUMN")
		is := shape{verb: recolumns, kind: evidence.Column, of: table, name: w.Take().Name()}
		w.Pass("TO")
		is.new = w.Take().Name()
		return is
	case w.Pass("ADD"):
		w.Pass("COLUMN")
		return shape{verb: recolumns, kind: evidence.Column, of: table, new: w.Take().Name()}
	case w.Pass("DROP"):
		w.Pass("COLUMN")
		return shape{verb: recolumns, kind: evidence.Column, of: table, name: w.Take().Name()}
	}
	return shape{kind: evidence.Table, name: table}
}

// change reads a statement that changes rows, or a query behind WITH.
func readChange(w *words.Walk) shape {
	is := shape{verb: reads}
	depth := 0
	for w.More() {
		t := w.Take()
		switch {
		case t.Is("("):
			depth++
		case t.Is(")"):
			depth--
		case depth > 0:
		case t.Is("WHERE"):
			is.where = true
		case t.Is("FROM"):
			is.from = true
			if is.word == "DELETE" && is.name == "" {
				_, is.name = w.Name()
			}
		case is.word != "":
		case t.Is("SELECT"), t.Is("VALUES"):
			return is
		case t.Is("UPDATE"):
			is.verb, is.word = changes, "UPDATE"
			if w.Pass("OR") {
				w.Take()
			}
			_, is.name = w.Name()
		case t.Any("INSERT", "REPLACE"):
			is.verb, is.word = changes, "INSERT"
			for w.More() && !w.Pass("INTO") {
				w.At++
			}
			_, is.name = w.Name()
		case t.Is("DELETE"):
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
