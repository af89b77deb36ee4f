package mariadb

import (
	"bytes"
	"strings"

	"vorrang/core/evidence"
	"vorrang/core/review"
	"vorrang/core/sqltext"
	"vorrang/target/words"
)

// verb is what a statement does, by its first words.
type verb int

const (
	other   verb = iota
	reads        // SELECT, VALUES, SHOW, EXPLAIN, DO
	changes      // INSERT, UPDATE, DELETE, REPLACE, LOAD DATA
	defines      // what changes the schema; the server commits before and after it
	control      // opens or ends a transaction
	saves        // SAVEPOINT and its like
	sets         // SET
	calls        // CALL, EXECUTE, BEGIN NOT ATOMIC: whatever they hold
	beyond       // reaches beyond the database
)

// effect is what a statement does to one object.
type effect struct {
	evidence.Object
	does doing
	to   string // the new name of one that is renamed
}

type doing int

const (
	makes doing = iota
	drops
	renames
	needs
)

// shape is a statement as far as its words tell.
type shape struct {
	verb    verb
	what    string        // of beyond and control: in words
	change  review.Change // of changes
	effects []effect      // of defines, in their order
	loses   []string      // what goes for good
	temp    bool          // it makes something that its session takes along
	name    string        // of what is temporary, or prepared
}

// shapeOf reads a statement.
func shapeOf(s sqltext.Statement) shape {
	w, _ := rules.Head(s.SQL)
	for w.Pass("(") { // a query in parentheses
	}
	first := w.Take()
	if bytes.HasPrefix(first.Raw(), []byte("/*")) { // what is in a comment that is run
		first = w.Take()
	}
	switch {
	case first.Is("CREATE"):
		return create(w)
	case first.Is("DROP"):
		return drop(w)
	case first.Is("ALTER"):
		return alter(w)
	case first.Is("RENAME"):
		return rename(w)
	case first.Is("TRUNCATE"):
		w.Pass("TABLE")
		_, name := w.Name()
		return shape{
			verb:    defines,
			effects: []effect{{Object: evidence.Object{Kind: evidence.Table, Name: name}, does: needs}},
			loses:   []string{"empties the table " + name},
		}
	case first.Any("SELECT", "VALUES", "SHOW", "EXPLAIN", "DESCRIBE", "DESC", "DO", "CHECKSUM", "TABLE"):
		into := w.Has("OUTFILE") || w.Has("DUMPFILE")
		if into {
			return shape{verb: beyond, what: "a file of the server"}
		}
		return shape{verb: reads}
	case first.Any("INSERT", "REPLACE", "UPDATE", "DELETE", "WITH"):
		w.At--
		return change(w)
	case first.Is("LOAD"):
		if w.Pass("DATA", "LOCAL") || w.Pass("XML", "LOCAL") {
			return shape{verb: beyond, what: "a file of this machine"}
		}
		return shape{verb: beyond, what: "a file of the server"}
	case first.Is("BEGIN") && w.Pass("NOT", "ATOMIC"), first.Any("CALL", "EXECUTE"):
		return shape{verb: calls}
	case first.Any("BEGIN", "COMMIT", "XA"),
		first.Is("START") && w.Pass("TRANSACTION"),
		first.Is("ROLLBACK") && !w.Has("TO"):
		return shape{verb: control, what: strings.ToUpper(string(first.Raw()))}
	case first.Any("SAVEPOINT", "RELEASE", "ROLLBACK"):
		return shape{verb: saves}
	case first.Is("SET"):
		return set(w)
	case first.Is("PREPARE"), first.Is("DECLARE"):
		return shape{verb: sets, temp: true, name: w.Take().Name()}
	case first.Is("DEALLOCATE"):
		return shape{verb: sets}
	case first.Is("USE"):
		return shape{verb: beyond, what: "another database"}
	case first.Any("LOCK", "UNLOCK"):
		return shape{verb: control, what: strings.ToUpper(string(first.Raw())) + " TABLES"}
	case first.Any("ANALYZE", "OPTIMIZE", "REPAIR", "CHECK"):
		return shape{verb: defines}
	case first.Any("GRANT", "REVOKE"):
		return shape{verb: beyond, what: "rights of users"}
	case first.Any("FLUSH", "RESET", "PURGE", "CHANGE", "STOP", "KILL", "SHUTDOWN", "INSTALL", "UNINSTALL", "BACKUP",
		"CACHE"),
		first.Is("START"):
		return shape{verb: beyond, what: "the server"}
	}
	return shape{}
}

func set(w *words.Walk) shape {
	switch {
	case w.Has("GLOBAL"), strings.Contains(strings.ToLower(textOf(w)), "@@global"):
		return shape{verb: beyond, what: "a setting of the whole server"}
	case w.Pass("PASSWORD"), w.Pass("DEFAULT", "ROLE"):
		return shape{verb: beyond, what: "a user"}
	case w.Has("AUTOCOMMIT"):
		return shape{verb: control, what: "SET autocommit"}
	case w.Pass("STATEMENT"):
		for w.More() && !w.Pass("FOR") {
			w.Take()
		}
		return shapeOf(sqltext.Statement{SQL: []byte(textOf(w))})
	}
	return shape{verb: sets}
}

func textOf(w *words.Walk) string {
	var parts []string
	for _, t := range w.Tokens[w.At:] {
		parts = append(parts, string(t.Raw()))
	}
	return strings.Join(parts, " ")
}

// kinds are the objects of a database that CREATE, DROP and ALTER are about.
var kinds = map[string]evidence.Kind{
	"TABLE":     evidence.Table,
	"VIEW":      evidence.View,
	"SEQUENCE":  evidence.Sequence,
	"INDEX":     evidence.Index,
	"TRIGGER":   evidence.Trigger,
	"PROCEDURE": evidence.Routine,
	"FUNCTION":  evidence.Routine,
	"EVENT":     evidence.Event,
}

// kindOfObject goes as far as the word that says what a statement is about.
func kindOfObject(w *words.Walk) (kind evidence.Kind, word string) {
	for w.More() {
		t := w.Take()
		word = strings.ToUpper(string(t.Raw()))
		if kind = kinds[word]; kind != "" {
			return kind, word
		}
		if t.Any("DATABASE", "SCHEMA", "USER", "ROLE", "SERVER", "PACKAGE", "TABLESPACE") || t.Is("(") {
			return "", word
		}
	}
	return "", word
}

// about is a change of the schema that is about something without a kind of its own:
// within the database, such as a package, or beyond it.
func about(word string) shape {
	switch word {
	case "PACKAGE":
		return shape{verb: defines}
	case "DATABASE", "SCHEMA", "TABLESPACE":
		return shape{verb: beyond, what: "another database"}
	case "USER", "ROLE":
		return shape{verb: beyond, what: "users and roles"}
	case "SERVER":
		return shape{verb: beyond, what: "another server"}
	}
	return shape{}
}

func create(w *words.Walk) shape {
	replaces := w.Peek().Is("OR")
	temporary := w.Pass("OR", "REPLACE", "TEMPORARY") || w.Pass("TEMPORARY")
	kind, word := kindOfObject(w)
	if kind == "" {
		return about(word)
	}
	w.Pass("IF", "NOT", "EXISTS")
	schema, name := w.Name()
	is := shape{verb: defines}
	made := effect{Object: evidence.Object{Kind: kind, Name: name}}
	if schema != "" {
		return shape{verb: beyond, what: "a database that is named, " + schema}
	}
	switch kind {
	case evidence.Index:
		for w.More() && !w.Pass("ON") { // USING BTREE may stand before it
			w.Take()
		}
		_, made.Of = w.Name()
	case evidence.Table:
		if temporary { // which does not end the transaction
			return shape{verb: changes, temp: true, name: name}
		}
		if replaces {
			is.loses = []string{"drops the table " + name + " where it is there"}
		}
		is.effects = append(is.effects, made)
		if w.Pass("(") && !w.Pass("LIKE") {
			is.effects = append(is.effects, parts(w, name)...)
		}
		return is
	}
	is.effects = append(is.effects, made)
	return is
}

// parts are what the list of a CREATE TABLE makes beside its table.
func parts(w *words.Walk, table string) (all []effect) {
	for _, part := range w.Parts() {
		if o, is := partOf(&words.Walk{Tokens: part}, table); is {
			all = append(all, effect{Object: o})
		}
	}
	return all
}

// partOf is the column, index or constraint that a definition makes.
func partOf(p *words.Walk, table string) (evidence.Object, bool) {
	o := evidence.Object{Of: table}
	switch {
	case p.Pass("CONSTRAINT"):
		if p.Pass("IF", "NOT", "EXISTS"); p.Peek().Any("PRIMARY", "UNIQUE", "FOREIGN", "CHECK") {
			return o, false
		}
		o.Kind, o.Name = evidence.Constraint, p.Take().Name()
		if p.Peek().Any("PRIMARY") {
			return o, false
		}
	case p.Peek().Any("PRIMARY", "CHECK", "PERIOD"):
		return o, false
	case p.Pass("FOREIGN"):
		return o, false // which has a name of its own making
	case p.Peek().Any("INDEX", "KEY", "UNIQUE", "FULLTEXT", "SPATIAL"):
		p.Take()
		if !p.Pass("INDEX") {
			p.Pass("KEY")
		}
		p.Pass("IF", "NOT", "EXISTS")
		if p.Peek().Is("(") {
			return o, false
		}
		o.Kind, o.Name = evidence.Index, p.Take().Name()
	default:
		o.Kind, o.Name = evidence.Column, p.Take().Name()
	}
	return o, o.Name != ""
}

func drop(w *words.Walk) shape {
	temporary := w.Pass("TEMPORARY")
	if w.Pass("PREPARE") {
		return shape{verb: sets}
	}
	kind, word := kindOfObject(w)
	if kind == "" {
		return about(word)
	}
	w.Pass("IF", "EXISTS")
	is := shape{verb: defines}
	if temporary {
		is.verb = changes
	}
	for {
		schema, name := w.Name()
		if schema != "" {
			return shape{verb: beyond, what: "a database that is named, " + schema}
		}
		gone := effect{Object: evidence.Object{Kind: kind, Name: name}, does: drops}
		if kind == evidence.Index && w.Pass("ON") {
			_, gone.Of = w.Name()
		}
		if kind == evidence.Table && !temporary {
			is.loses = append(is.loses, "drops the table "+name)
		}
		is.effects = append(is.effects, gone)
		if !w.Pass(",") {
			return is
		}
	}
}

func rename(w *words.Walk) shape {
	if !w.Pass("TABLE") && !w.Pass("TABLES") {
		return about(strings.ToUpper(string(w.Take().Raw())))
	}
	w.Pass("IF", "EXISTS")
	is := shape{verb: defines}
	for {
		_, from := w.Name()
		for w.More() && !w.Pass("TO") { // WAIT n may stand before it
			w.Take()
		}
		schema, to := w.Name()
		if schema != "" {
			return shape{verb: beyond, what: "a database that is named, " + schema}
		}
		is.effects = append(
			is.effects,
			effect{Object: evidence.Object{Kind: evidence.Table, Name: from}, does: renames, to: to},
		)
		if !w.Pass(",") {
			return is
		}
	}
}

// change reads a statement that changes rows, or a query after WITH.
func change(w *words.Walk) shape {
	c := words.ReadChange(w, func(_ *words.Change, w *words.Walk) {
		for w.Pass("LOW_PRIORITY") || w.Pass("DELAYED") || w.Pass("HIGH_PRIORITY") || w.Pass("IGNORE") || w.Pass("INTO") {
		}
	})
	if c.Verb == "" {
		return shape{verb: reads}
	}
	is := shape{verb: changes, change: c.Change, loses: c.Loses()}
	is.change.From = c.From || c.Verb == "INSERT" && c.Limit
	return is
}

// leaves tells a net what one statement leaves in the database.
func leaves(net *evidence.Net, s sqltext.Statement) {
	is := shapeOf(s)
	if is.temp {
		net.Nothing()
		return
	}
	for _, e := range is.effects {
		switch e.does {
		case makes:
			net.Made(e.Object)
		case drops:
			net.Gone(e.Object)
		case renames:
			net.Gone(e.Object)
			e.Object.Name = e.to
			net.Made(e.Object)
		case needs:
			net.There(e.Object)
		}
	}
}

// literal is a text as the server reads it, unless sql_mode says NO_BACKSLASH_ESCAPES.
func literal(text string) string {
	return "'" + strings.ReplaceAll(strings.ReplaceAll(text, `\`, `\\`), "'", "''") + "'"
}

// quoted is a name in backquotes.
func quoted(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }
