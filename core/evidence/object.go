package evidence

import (
	"fmt"
	"strings"
)

// Kind is a kind of object, in the server's words.
type Kind string

const (
	Schema           Kind = "schema"
	Extension        Kind = "extension"
	Table            Kind = "table"
	View             Kind = "view"
	MaterializedView Kind = "materialized view"
	Sequence         Kind = "sequence"
	Index            Kind = "index"
	Type             Kind = "type" // domains too
	Routine          Kind = "function"
	Column           Kind = "column"     // Of a table
	Constraint       Kind = "constraint" // Of a table
	Trigger          Kind = "trigger"    // Of a table
	Policy           Kind = "policy"     // Of a table
	Event            Kind = "event"      // that the server runs by a schedule
)

// Object is what a statement should have left in the catalogs, or taken out of
// them.
type Object struct {
	Kind   Kind   `json:"kind"`
	Schema string `json:"schema,omitempty" description:"Absent where the script names none."`
	Of     string `json:"of,omitempty" description:"The table that it belongs to."`
	Name   string `json:"name"`

	Gone bool `json:"gone,omitempty" description:"It should not be there."`
	Made bool `json:"made,omitempty" description:"The script creates it."`

	// place in the script
	Statement int `json:"statement" description:"From 1."`
	Line      int `json:"line"`

	// Path is the search path that the script itself had set; nil for the
	// session's.
	Path []string `json:"-"`
}

// String is "column harbour.vessel.draught_m".
func (o Object) String() string {
	var parts []string
	for _, part := range []string{o.Schema, o.Of, o.Name} {
		if part != "" {
			parts = append(parts, part)
		}
	}
	return string(o.Kind) + " " + strings.Join(parts, ".")
}

// Unverifiable is a statement that leaves nothing that could be looked up.
type Unverifiable struct {
	Statement int    `json:"statement" description:"From 1."`
	Line      int    `json:"line"`
	What      string `json:"what" description:"Such as UPDATE."`
}

// Script is what the statements of a step's file should leave behind.
type Script struct {
	Objects      []Object // the net of all statements: what a later one drops is gone
	Unverifiable []Unverifiable
}

// In says where an object is in a script, for people.
func (o Object) In() string { return fmt.Sprintf("statement %d, line %d", o.Statement, o.Line) }

// FirstWords names a statement by the words that it begins with.
func FirstWords(sql []byte) string {
	var words []string
	for field := range strings.FieldsSeq(string(sql[:min(len(sql), 200)])) {
		keyword := strings.TrimFunc(field, func(r rune) bool { return r >= 'A' && r <= 'Z' }) == ""
		if len(words) == 2 || len(words) == 1 && !keyword {
			break
		}
		words = append(words, strings.ToUpper(field))
	}
	return strings.Join(words, " ")
}
