package schema

import (
	"cmp"
	"iter"
	"slices"
	"strings"
)

// Script turns one schema into another.
type Script struct {
	Parts       []Part
	Undraftable []Unsupported
	Reordered   []string // tables whose columns are in another order, which no statement can fix
}

// Part is a run of statements of one mode, without their semicolons.
type Part struct {
	Autocommit bool // each statement commits by itself: what does not block others, and what the server refuses in a transaction
	Statements []Drafted
}

// Drafted is one statement of a script.
type Drafted struct {
	SQL   string
	Data  []byte // of a COPY, with its line ends
	Loses string // what it loses for good, if anything
	Takes string // what it takes: why it can fail or block where there are rows
}

// Unsupported is a difference that no script was written for.
type Unsupported struct {
	Kind Kind   `json:"kind"`
	Name string `json:"name"`
	Why  string `json:"why"`
}

// Style says how a script is written.
type Style struct {
	Owners     bool // owners and grants too
	Concurrent bool // in the forms that do not block others, where there are any
	Rows       []Rows
}

// Rows are a table's rows, to come with it.
type Rows struct {
	Table   string
	Columns []string // quoted where they need it
	Data    []byte   // as COPY gives them
	Next    []string // statements that set its sequences
}

// Reordered names the tables that have the same columns in both schemas, but in
// another order.
func Reordered(is, should Schema) []string {
	names := func(columns []Object, both map[string]bool) []string {
		var list []string
		for _, c := range columns {
			if both[c.Name] {
				list = append(list, c.Name)
			}
		}
		return list
	}
	var tables []string
	old := Columns(is)
	for table, columns := range Columns(should) {
		both := map[string]bool{}
		for _, c := range columns {
			both[c.Name] = slices.ContainsFunc(old[table], func(o Object) bool { return o.Name == c.Name })
		}
		if !slices.Equal(names(columns, both), names(old[table], both)) {
			tables = append(tables, table)
		}
	}
	slices.Sort(tables)
	return tables
}

// Columns are the columns of each table and view, in their order.
func Columns(s Schema) map[string][]Object {
	tables := map[string][]Object{}
	for _, o := range s.Objects {
		if o.Kind == Column {
			tables[o.Of] = append(tables[o.Of], o)
		}
	}
	for _, columns := range tables {
		slices.SortFunc(columns, func(a, b Object) int { return cmp.Compare(a.Place, b.Place) })
	}
	return tables
}

// List cuts a list as the server writes it at its commas, but not within
// quotes or parentheses.
func List(text string) []string {
	var parts []string
	depth, begin := 0, 0
	var quote byte
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '\'' || c == '"':
			quote = c
		case c == '(' || c == '{':
			depth++
		case c == ')' || c == '}':
			depth--
		case c == ',' && depth == 0:
			parts = append(parts, strings.TrimSpace(text[begin:i]))
			begin = i + 1
		}
	}
	if rest := strings.TrimSpace(text[begin:]); rest != "" {
		parts = append(parts, rest)
	}
	return parts
}

// Qualifier is what stands before the last part of a qualified name, with its
// dot.
func Qualifier(name string) string { return strings.TrimSuffix(name, Unqualified(name)) }

// Unqualified is the last part of a qualified name, still quoted.
func Unqualified(name string) string {
	last := 0
	for at, c := range Outside(name) {
		if c == '.' {
			last = at + 1
		}
	}
	return name[last:]
}

// Outside are the bytes of a text, with their places, that stand outside of names in
// quotes: double quotes, or backquotes.
func Outside(text string) iter.Seq2[int, byte] {
	return func(yield func(int, byte) bool) {
		var quote byte // that is open
		for at := range len(text) {
			switch c := text[at]; {
			case quote != 0:
				if c == quote {
					quote = 0 // or opens again, where it stands twice
				}
			case c == '"' || c == '`':
				quote = c
			case !yield(at, c):
				return
			}
		}
	}
}

// Described is a table with what belongs to it.
type Described struct {
	Object
	Columns []Object // in their order
	Parts   []Object // of the kinds that were asked for
}

// Tables are the tables of a schema by their names, with their objects of some kinds.
func Tables(s Schema, kinds ...Kind) map[string]Described {
	tables, columns := map[string]Described{}, Columns(s)
	for _, o := range s.Objects {
		if o.Kind == Table {
			tables[o.Name] = Described{Object: o, Columns: columns[o.Name]}
		}
	}
	for _, o := range s.Objects {
		if t, is := tables[o.Of]; is && slices.Contains(kinds, o.Kind) {
			t.Parts = append(t.Parts, o)
			tables[o.Of] = t
		}
	}
	return tables
}
