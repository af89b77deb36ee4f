package evidence

import (
	"cmp"
	"slices"
	"strings"

	"vorrang/core/sqltext"
)

// Net adds up what statements leave behind: what a later one drops is gone. An
// engine's dialect tells it of each statement what it makes, alters and drops.
type Net struct {
	// the statement
	number int
	line   int
	seen   bool // it left something
	silent bool // it stands before the first that counts: only its search path does

	path    []string // that the script itself has set
	objects map[string]Object
	blind   []Unverifiable

	script int            // of several, the one that is read
	from   map[string]int // the script that left an object; nil for one
}

// Collect reads a script from a statement on, up to another (both from 1, both
// included; a last of 0 is the end). read tells the net of one statement.
func Collect(statements []sqltext.Statement, first, last int, read func(*Net, sqltext.Statement)) Script {
	n := Net{objects: map[string]Object{}}
	for i, s := range statements {
		if last > 0 && i+1 > last {
			break
		}
		n.number, n.line, n.seen, n.silent = i+1, s.Line, false, i+1 < first
		read(&n, s)
		if !n.seen && !n.silent {
			n.blind = append(n.blind, Unverifiable{Statement: n.number, Line: n.line, What: FirstWords(s.SQL)})
		}
	}
	script := Script{Unverifiable: n.blind}
	for _, o := range n.objects {
		script.Objects = append(script.Objects, o)
	}
	inPlace(script.Objects)
	return script
}

// CollectLeft is what should be there of each of several scripts after all of them
// ran, one after the other: what a later one drops or renames is nobody's any more.
func CollectLeft(scripts [][]sqltext.Statement, read func(*Net, sqltext.Statement)) [][]Object {
	n := Net{objects: map[string]Object{}, from: map[string]int{}}
	for i, statements := range scripts {
		n.script, n.path = i, nil
		for at, s := range statements {
			n.number, n.line = at+1, s.Line
			read(&n, s)
		}
	}
	left := make([][]Object, len(scripts))
	for key, o := range n.objects {
		if script := n.from[key]; !o.Gone {
			left[script] = append(left[script], o)
		}
	}
	for _, objects := range left {
		inPlace(objects)
	}
	return left
}

// inPlace sorts objects by their places in a script.
func inPlace(objects []Object) {
	slices.SortFunc(objects, func(a, b Object) int {
		return cmp.Or(a.Statement-b.Statement, strings.Compare(a.String(), b.String()))
	})
}

// Searches says along which schemas names are found from here on.
func (n *Net) Searches(path []string) { n.seen, n.path = true, path }

// Nothing says that a statement leaves nothing that outlasts its session.
func (n *Net) Nothing() { n.seen = true }

// Made says that a statement makes an object; one without a name is nobody's.
func (n *Net) Made(o Object) {
	if o.Name != "" {
		o.Made = true
		n.leave(o)
	}
}

// There says that a statement alters an object, or needs it.
func (n *Net) There(o Object) {
	if before, known := n.objects[o.String()]; known && !before.Gone {
		n.seen = true // it stays what an earlier statement made of it
		return
	}
	n.leave(o)
}

// Gone says that a statement drops an object, and what belongs to it.
func (n *Net) Gone(gone Object) {
	for key, o := range n.objects {
		if gone.Of == "" && o.Of == gone.Name && o.Schema == gone.Schema ||
			gone.Kind == Schema && o.Schema == gone.Name {
			delete(n.objects, key)
		}
	}
	gone.Gone = true
	n.leave(gone)
}

func (n *Net) leave(o Object) {
	n.seen = true
	if n.silent {
		return
	}
	o.Statement, o.Line, o.Path = n.number, n.line, n.path
	n.objects[o.String()] = o
	if n.from != nil {
		n.from[o.String()] = n.script
	}
}
