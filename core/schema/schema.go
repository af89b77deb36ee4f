// Package schema is a model of a database's schema: its objects with their
// properties, as the server itself writes them. Two schemas with the same
// fingerprint are the same, whatever the order in which they were made.
package schema

import (
	"bufio"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
)

// Kind is what an object is.
type Kind string

// The kinds, in the order in which they are shown: what others stand on comes
// first.
const (
	Extension    Kind = "extension"
	Namespace    Kind = "schema"
	Collation    Kind = "collation"
	Type         Kind = "type"
	Wrapper      Kind = "foreign-data wrapper"
	Server       Kind = "server"
	Sequence     Kind = "sequence"
	Table        Kind = "table"
	Column       Kind = "column"
	Constraint   Kind = "constraint"
	Index        Kind = "index"
	View         Kind = "view"
	Materialized Kind = "materialized view"
	Function     Kind = "function"
	Trigger      Kind = "trigger"
	EventTrigger Kind = "event trigger"
	Event        Kind = "event" // runs by a schedule of the server's
	Rule         Kind = "rule"
	Policy       Kind = "policy"
	Statistics   Kind = "statistics"
	Publication  Kind = "publication"
	Published    Kind = "published table"
	PublishedAll Kind = "published schema"
	DefaultGrant Kind = "default privileges"
)

// Kinds are all kinds in their order.
var Kinds = []Kind{
	Extension, Namespace, Collation, Type, Wrapper, Server, Sequence, Table, Column, Constraint, Index, View,
	Materialized, Function, Trigger, EventTrigger, Event, Rule, Policy, Statistics, Publication, Published,
	PublishedAll, DefaultGrant,
}

// Object is one thing in a schema. Its name is quoted where the server would
// quote it, and holds the names of what it belongs to.
type Object struct {
	Kind  Kind   `json:"kind"`
	Name  string `json:"name"`         // "harbour.vessel", "harbour.vessel.name", "harbour.greet(text)"
	Of    string `json:"of,omitempty"` // the table, view, domain or publication that it belongs to
	Props Props  `json:"props,omitempty"`

	// what says how it can be made again, and is no part of the canonical text
	Place        int      `json:"place,omitempty"`         // of a column: its place in its table, with gaps
	Needs        []string `json:"needs,omitempty"`         // keys of what must be there before it, if the snapshot asked
	DefaultNeeds []string `json:"default_needs,omitempty"` // of a column: what its default needs
}

// Key tells an object from all others: its kind and its name.
func (o Object) Key() string { return KeyOf(o.Kind, o.Name) }

// KeyOf is the key of an object of a kind and with a name.
func KeyOf(kind Kind, name string) string { return string(kind) + " " + name }

// Local is the object's name within what it belongs to.
func (o Object) Local() string {
	if o.Of == "" {
		return o.Name
	}
	return strings.TrimPrefix(o.Name, o.Of+".")
}

// Uncovered is what the model does not describe.
type Uncovered struct {
	What  string   `json:"what"` // such as "operator"
	Count int      `json:"count"`
	Names []string `json:"names"` // the first few
}

// Schema is a snapshot of a database's schema.
type Schema struct {
	Objects   []Object    `json:"objects"` // in the canonical order
	Uncovered []Uncovered `json:"uncovered,omitempty"`
}

// New puts objects into the canonical order.
func New(objects []Object, uncovered []Uncovered) Schema {
	order := make([]int, len(objects)) // objects are large, and move once
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return compare(&objects[a], &objects[b]) })
	s := Schema{Objects: make([]Object, len(objects)), Uncovered: uncovered}
	for i, from := range order {
		o := objects[from]
		if o.Kind == Statistics { // their columns stand in the order of the table's, whatever was said
			o.Props = maps.Clone(o.Props)
			o.Props[Definition] = StatisticsInOrder(o.Props[Definition])
		}
		s.Objects[i] = o
	}
	return s
}

// StatisticsInOrder is the definition of a statistics object with its columns
// by name.
func StatisticsInOrder(definition string) string {
	head, rest, _ := strings.Cut(definition, " ON ")
	at := strings.LastIndex(rest, " FROM ")
	if at < 0 {
		return definition
	}
	columns := List(rest[:at])
	slices.Sort(columns)
	return head + " ON " + strings.Join(columns, ", ") + rest[at:]
}

var ranks = func() map[Kind]int {
	all := map[Kind]int{}
	for i, kind := range Kinds {
		all[kind] = i
	}
	return all
}()

// Rank is a kind's place in the order of Kinds.
func Rank(kind Kind) int { return ranks[kind] }

func compare(a, b *Object) int {
	if a.Kind != b.Kind {
		return cmp.Compare(ranks[a.Kind], ranks[b.Kind])
	}
	return strings.Compare(a.Name, b.Name)
}

// Text is the canonical text: a line for each object, and one for each of its
// properties. Line ends in a property are written as \n.
func (s Schema) Text() string {
	var b strings.Builder
	s.write(&b)
	return b.String()
}

func (s Schema) write(to io.StringWriter) {
	var line []byte
	keys := make([]Property, 0, 16)
	for _, o := range s.Objects {
		line = append(append(append(append(line[:0], o.Kind...), ' '), escape(o.Name)...), '\n')
		keys = slices.AppendSeq(keys[:0], maps.Keys(o.Props))
		slices.Sort(keys)
		for _, key := range keys {
			line = append(append(append(append(line, "  "...), key...), ": "...), escape(o.Props[key])...)
			line = append(line, '\n')
		}
		_, _ = to.WriteString(string(line)) // neither a builder nor a hash fails
	}
}

var escaper = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`)

func escape(text string) string {
	if !strings.ContainsAny(text, "\\\n\r") {
		return text
	}
	return escaper.Replace(text)
}

// Fingerprint is the lower-case hexadecimal SHA-256 of the canonical text.
func (s Schema) Fingerprint() string {
	hash := sha256.New()
	to := bufio.NewWriter(hash)
	s.write(to)
	_ = to.Flush() // a hash does not fail
	return hex.EncodeToString(hash.Sum(nil))
}

// What is what became of an object.
type What string

const (
	Added   What = "added"
	Removed What = "removed"
	Changed What = "changed"
)

// Difference is what became of one object.
type Difference struct {
	What  What     `json:"what" enum:"added,removed,changed"`
	Kind  Kind     `json:"kind"`
	Name  string   `json:"name"`
	Of    string   `json:"of,omitempty" description:"The table or view that it belongs to."`
	Props []Change `json:"props,omitempty" description:"Of a changed object what changed, and of an added one all that it has."`
}

// Change is what became of one property. An absent side is empty.
type Change struct {
	Name   Property `json:"name"`
	Before string   `json:"before,omitempty"`
	After  string   `json:"after,omitempty"`
}

// String is "added column harbour.vessel.name".
func (d Difference) String() string { return fmt.Sprintf("%s %s %s", d.What, d.Kind, d.Name) }

// Summary names the first of some differences, and says how many more there are.
func Summary(list []Difference, most int) string {
	var names []string
	for _, d := range list[:min(len(list), most)] {
		names = append(names, d.String())
	}
	if more := len(list) - most; more > 0 {
		names = append(names, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(names, ", ")
}

// Key is that of the object that it is about.
func (d Difference) Key() string { return KeyOf(d.Kind, d.Name) }

// Compare says how one schema became another: object by object and property by
// property, in the canonical order. What belongs to a table that was added or
// removed as a whole is left out, since it goes without saying.
func Compare(before, after Schema) []Difference {
	list := differences(before, after)
	whole := map[string]What{}
	for _, d := range list {
		if d.Of == "" && d.What != Changed {
			whole[d.Name] = d.What
		}
	}
	return withProps(
		slices.DeleteFunc(list, func(d Difference) bool { return d.Of != "" && whole[d.Of] == d.What }),
		after,
	)
}

// withProps gives what was added its properties.
func withProps(list []Difference, after Schema) []Difference {
	is := ByKey(after)
	for i, d := range list {
		if d.What == Added {
			list[i].Props = Changes(nil, is[d.Key()].Props)
		}
	}
	return list
}

// Effect is Compare with more: what belongs to a table that was added or removed
// as a whole, after it, and the properties of what was added.
func Effect(before, after Schema) []Difference {
	list := differences(before, after)
	views := map[string]bool{} // their definitions say all
	for _, d := range list {
		views[d.Name] = views[d.Name] || d.What != Changed && (d.Kind == View || d.Kind == Materialized)
	}
	list = slices.DeleteFunc(list, func(d Difference) bool {
		return d.What != Changed &&
			(d.Kind == Column && views[d.Of] || d.Kind == Sequence &&
				d.Of != "") // an identity's sequence comes and goes with it
	})
	return grouped(withProps(list, after))
}

// grouped puts what belongs to something after it, or together where that
// itself is not in the list.
func grouped(list []Difference) []Difference {
	first := map[string]int{} // where a group begins
	for i, d := range list {
		if _, begun := first[cmp.Or(d.Of, d.Name)]; !begun {
			first[cmp.Or(d.Of, d.Name)] = i
		}
	}
	group := func(d Difference) int { return first[cmp.Or(d.Of, d.Name)] }
	slices.SortStableFunc(list, func(a, b Difference) int { return cmp.Compare(group(a), group(b)) })
	return list
}

func differences(before, after Schema) []Difference {
	was := ByKey(before)
	list := []Difference{}
	for _, now := range after.Objects {
		old, known := was[now.Key()]
		switch {
		case !known:
			list = append(list, Difference{What: Added, Kind: now.Kind, Name: now.Name, Of: now.Of})
		default:
			if props := Changes(old.Props, now.Props); len(props) > 0 {
				list = append(list, Difference{What: Changed, Kind: now.Kind, Name: now.Name, Of: now.Of, Props: props})
			}
		}
	}
	is := ByKey(after)
	for _, old := range before.Objects {
		if _, still := is[old.Key()]; !still {
			list = append(list, Difference{What: Removed, Kind: old.Kind, Name: old.Name, Of: old.Of})
		}
	}
	slices.SortStableFunc(list, func(a, b Difference) int {
		return compare(&Object{Kind: a.Kind, Name: a.Name}, &Object{Kind: b.Kind, Name: b.Name})
	})
	return list
}

// ByKey are a schema's objects by their keys.
func ByKey(s Schema) map[string]Object {
	objects := make(map[string]Object, len(s.Objects))
	for _, o := range s.Objects {
		objects[o.Key()] = o
	}
	return objects
}

// Changes are what became of an object's properties, by their names.
func Changes(before, after Props) []Change {
	var list []Change
	names := cloned(before)
	maps.Copy(names, after)
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if before[name] != after[name] {
			list = append(list, Change{Name: name, Before: before[name], After: after[name]})
		}
	}
	return list
}

// cloned is a copy that can be written to.
func cloned(props Props) Props {
	if props == nil {
		return Props{}
	}
	return maps.Clone(props)
}

// Without leaves some properties out, such as owner and grants, which often
// differ by environment.
func (s Schema) Without(names ...Property) Schema {
	objects := make([]Object, len(s.Objects))
	for i, o := range s.Objects {
		o.Props = maps.Clone(o.Props)
		for _, name := range names {
			delete(o.Props, name)
		}
		objects[i] = o
	}
	objects = slices.DeleteFunc(objects, func(o Object) bool { return len(o.Props) == 0 && o.Kind == DefaultGrant })
	return Schema{Objects: objects, Uncovered: s.Uncovered}
}
