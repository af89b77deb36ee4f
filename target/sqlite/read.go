package sqlite

import (
	"strings"

	"vorrang/core/evidence"
	"vorrang/core/review"
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
	change    review.Change // of changes
	kind      evidence.Kind // of creates and drops
	temporary bool
	of        string // the table that a trigger or a column belongs to, or a virtual table's module
	name      string
	new       string   // of renames
	columns   []string // of a table that is created
	into      bool     // VACUUM INTO
	loses     []string // what goes for good
}

// shapeOf reads a statement.
func shapeOf(s sqltext.Statement) shape {
	w, _ := rules.Head(s.SQL)
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
	case w.Peek().Any("SAVEPOINT", "RELEASE"), w.Peek().Is("ROLLBACK") && w.Has("TO"):
		is.verb = saves
	case w.Peek().Is("ROLLBACK"):
		is.verb = closes
	case w.Peek().Any("ATTACH", "DETACH"):
		is.verb = attaches
	case w.Pass("VACUUM"):
		is.verb, is.into = vacuums, w.Has("INTO")
	case w.Peek().Any("SELECT", "VALUES", "EXPLAIN"):
		is.verb = reads
	case w.Peek().Any("ANALYZE", "REINDEX"):
		is.verb = tends
	case w.Peek().Any("INSERT", "REPLACE", "UPDATE", "DELETE", "WITH"):
		is = readChange(w)
	}
	return is
}

// kinds are what CREATE and DROP are about.
var kinds = map[string]evidence.Kind{
	"TABLE":   evidence.Table,
	"INDEX":   evidence.Index,
	"VIEW":    evidence.View,
	"TRIGGER": evidence.Trigger,
}

func readCreate(w *words.Walk) shape {
	is := shape{verb: creates}
	is.temporary = w.Pass("TEMP") || w.Pass("TEMPORARY")
	unique := w.Pass("UNIQUE")
	virtual := w.Pass("VIRTUAL")
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
		for _, c := range readTable(w).columns {
			is.columns = append(is.columns, c.name)
		}
	}
	return is
}

func readDrop(w *words.Walk) shape {
	kind, known := kinds[strings.ToUpper(string(w.Take().Raw()))]
	if !known {
		return shape{}
	}
	w.Pass("IF", "EXISTS")
	_, name := w.Name()
	is := shape{verb: drops, kind: kind, name: name}
	if kind == evidence.Table {
		is.loses = []string{"drops the table " + name}
	}
	return is
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
		name := w.Take().Name()
		return shape{
			verb:  recolumns,
			kind:  evidence.Column,
			of:    table,
			name:  name,
			loses: []string{"drops the column " + table + "." + name},
		}
	}
	return shape{kind: evidence.Table, name: table}
}

// readChange reads a statement that changes rows, or a query after WITH.
func readChange(w *words.Walk) shape {
	c := words.ReadChange(w, func(c *words.Change, w *words.Walk) {
		if w.Pass("OR") { // what becomes of rows that break a rule
			c.Replace = w.Take().Is("REPLACE")
		}
		if c.Verb == "INSERT" {
			w.Pass("INTO")
		}
	})
	if c.Verb == "" {
		return shape{verb: reads}
	}
	return shape{verb: changes, change: c.Change, loses: c.Loses()}
}

// leaves tells a net what one statement leaves in the file.
func leaves(net *evidence.Net, s sqltext.Statement) {
	is := shapeOf(s)
	object := evidence.Object{Kind: is.kind, Name: is.name}
	switch {
	case is.verb == creates && is.temporary:
		net.Nothing()
	case is.verb == creates:
		net.Made(object) // a trigger's name is the file's, whatever table it is on
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
