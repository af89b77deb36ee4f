// Package chart lays a schema's tables and foreign keys out, and draws them as
// SVG. The layout is Graphviz's, in a program of its own.
package chart

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"vorrang/core/schema"
	"vorrang/internal/subprocess"
	"vorrang/service/api"
)

const (
	rowHeight   = 18.0 // pixels
	headHeight  = 26.0
	letterWidth = 6.8
	padding     = 12.0
	mostColumns = 14 // of a table that are drawn
	manyTables  = 60 // from here on, only keys are drawn, and what changed
	leafColumn  = 35 // tables that nobody refers to be in several columns, of about so many
	dots        = 72.0

	// Beyond these Graphviz isn't asked any more: its time grows faster than with
	// the square of the links, and whoever submits steps sets their number. 300
	// tables with 450 links take it two seconds, 100 tables with 400 links 43.
	mostTables = 300
	mostLinks  = 200 // and more than mostDense to a table
	mostDense  = 1.5
	alley      = 48.0 // pixels between the columns of the plain grid
)

// Draw lays out what a schema holds. What the differences removed is drawn too.
func Draw(
	ctx context.Context, s schema.Schema, differences []schema.Difference, before schema.Schema,
) (*api.Map, error) {
	m := &api.Map{Tables: []api.MapTable{}, Links: []api.MapLink{}}
	what := map[string]schema.What{}
	touched := map[string]bool{}
	for _, d := range differences {
		what[d.Key()] = d.What
		touched[d.Of] = touched[d.Of] || d.Of != ""
	}
	all := slices.Clone(s.Objects)
	for _, o := range before.Objects {
		if what[o.Key()] == schema.Removed {
			all = append(all, o)
		}
	}
	whole := schema.New(all, nil)
	columns := schema.Columns(whole)
	keys := keysOf(whole)
	few := len(tablesOf(whole)) > manyTables
	for _, o := range tablesOf(whole) {
		t := api.MapTable{Name: o.Name, What: what[o.Key()], Columns: []api.MapColumn{}}
		if t.What == "" && touched[o.Name] {
			t.What = schema.Changed
		}
		for _, c := range columns[o.Name] {
			shown := api.MapColumn{
				Name: c.Local(),
				Type: c.Props[schema.DataType],
				Key:  keys[c.Name],
				What: what[c.Key()],
			}
			if len(t.Columns) < mostColumns && (!few || shown.Key != "" || shown.What != "") {
				t.Columns = append(t.Columns, shown)
			} else {
				t.More++
			}
		}
		measure(&t)
		m.Tables = append(m.Tables, t)
	}
	for _, o := range whole.Objects {
		if to := target(o); to != "" {
			m.Links = append(m.Links, api.MapLink{Name: o.Name, From: o.Of, To: to, What: what[o.Key()]})
		}
	}
	return m, lay(ctx, m)
}

// tablesOf are the tables that are drawn: a partition stands for its parent.
func tablesOf(s schema.Schema) []schema.Object {
	var tables []schema.Object
	for _, o := range s.Objects {
		if o.Kind == schema.Table && o.Props[schema.Partition] == "" {
			tables = append(tables, o)
		}
	}
	return tables
}

// keysOf says of columns whether they are part of a key.
func keysOf(s schema.Schema) map[string]string {
	keys := map[string]string{}
	for _, o := range s.Objects {
		if o.Kind != schema.Constraint {
			continue
		}
		for kind, prefix := range map[string]string{"primary": "PRIMARY KEY (", "foreign": "FOREIGN KEY ("} {
			rest, is := strings.CutPrefix(o.Props[schema.Definition], prefix)
			if !is {
				continue
			}
			names, _, _ := strings.Cut(rest, ")")
			for _, name := range strings.Split(names, ", ") {
				if column := o.Of + "." + name; keys[column] != "primary" {
					keys[column] = kind
				}
			}
		}
	}
	return keys
}

// target is the table that a foreign key refers to; empty for other objects.
func target(o schema.Object) string {
	definition := o.Props[schema.Definition]
	if o.Kind != schema.Constraint || !strings.HasPrefix(definition, "FOREIGN KEY") {
		return ""
	}
	_, rest, _ := strings.Cut(definition, " REFERENCES ")
	for at, c := range schema.Outside(rest) {
		if c == '(' || c == ' ' {
			return rest[:at]
		}
	}
	return rest
}

func measure(t *api.MapTable) {
	letters := len([]rune(t.Name))
	rows := len(t.Columns)
	for _, c := range t.Columns {
		letters = max(letters, len([]rune(c.Name))+len([]rune(c.Type))+6)
		if c.What != "" {
			letters = max(letters, len([]rune(c.Name))+len([]rune(c.Type))+len(c.What)+6)
		}
	}
	if t.More > 0 {
		rows++
	}
	t.Width = float64(min(max(letters, 12), 44))*letterWidth + 2*padding
	t.Height = headHeight + float64(rows)*rowHeight
	if rows > 0 {
		t.Height += padding / 2
	}
}

// lay asks Graphviz for places. Source of its plain format: Graphviz's
// documentation, "Output Formats".
func lay(ctx context.Context, m *api.Map) error {
	if len(m.Tables) == 0 {
		return nil
	}
	number := map[string]int{}
	var text strings.Builder
	text.WriteString(
		"digraph { rankdir=LR; nslimit=1; nslimit1=1; mclimit=0.3; nodesep=0.35; ranksep=0.9; pack=24; " +
			"packmode=\"graph\"; node [shape=box, fixedsize=true, label=\"\"]; edge [label=\"\", arrowhead=none];\n",
	)
	for i, t := range m.Tables {
		number[t.Name] = i
		fmt.Fprintf(&text, "t%d [width=%.3f, height=%.3f];\n", i, t.Width/dots, t.Height/dots)
	}
	m.Links = slices.DeleteFunc(m.Links, func(l api.MapLink) bool {
		_, from := number[l.From]
		_, to := number[l.To]
		return !from || !to // of a partition
	})
	if crowded(m) {
		grid(m, number)
		return nil
	}
	referred := map[string]bool{}
	for _, l := range m.Links {
		referred[l.To] = true
	}
	columns, leaves := max(len(m.Tables)/leafColumn, 1), 0
	for i, l := range m.Links {
		length := 1
		if !referred[l.From] { // so that hundreds of them are not in one column
			length += leaves % columns
			leaves++
		}
		fmt.Fprintf(&text, "t%d -> t%d [id=%d, minlen=%d];\n", number[l.From], number[l.To], i, length)
	}
	text.WriteString("}\n")
	laid, err := layouts.Do(ctx, []byte(text.String()))
	if errors.Is(err, subprocess.ErrEnded) || errors.Is(err, subprocess.ErrLate) || errors.Is(err, subprocess.ErrAbsent) {
		grid(m, number) // a plain picture is better than none
		return nil
	}
	if err != nil {
		return fmt.Errorf("lay the tables out: %w", err)
	}
	return read(m, laid, number)
}

// Program lays out, by Graphviz. It is one of its own: Graphviz's library compiles what it runs
// when a program begins, and keeps it where others may write.
const Program = "vorrang-layout"

// Work is what Program is asked for, and Limits are its limits: layouts are made one at a time.
const Work = "layout"

var Limits = subprocess.Limits{Processes: 1, Time: 10 * time.Second, Memory: 1 << 30}

var layouts = subprocess.Beside(Program, Work, Limits)

// crowded is a schema that Graphviz would take too long for.
func crowded(m *api.Map) bool {
	tables, links := len(m.Tables), len(m.Links)
	return tables > mostTables || links > mostLinks && float64(links) > mostDense*float64(tables)
}

// grid puts very many tables into columns, in the order of their names, and
// draws their links straight. It takes time and memory by their number only.
func grid(m *api.Map, number map[string]int) {
	var area, width float64
	for _, t := range m.Tables {
		area += (t.Width + alley) * (t.Height + padding)
		width = max(width, t.Width)
	}
	column := max(math.Sqrt(area), rowHeight) // about as high as wide
	x, y := 0.0, 0.0
	for i := range m.Tables {
		t := &m.Tables[i]
		if y > 0 && y+t.Height > column {
			x, y = x+width+alley, 0
		}
		t.X, t.Y = x, y
		y += t.Height + padding
		m.Width, m.Height = x+width, max(m.Height, y)
	}
	for i, l := range m.Links {
		from, to := m.Tables[number[l.From]], m.Tables[number[l.To]]
		start, end := from.X+from.Width, to.X
		if to.X <= from.X {
			start, end = from.X, to.X+to.Width
		}
		if to.X == from.X {
			end = to.X // along the same column's edge
		}
		fromY, toY := from.Y+from.Height/2, to.Y+to.Height/2
		middle := (start + end) / 2
		if to.X == from.X {
			middle -= alley / 2
		}
		m.Links[i].Path = fmt.Sprintf(
			"M%.1f %.1f C%.1f %.1f %.1f %.1f %.1f %.1f",
			start, fromY, middle, fromY, middle, toY, end, toY,
		)
	}
}

// read takes the places over. Graphviz's lie in inches from the bottom left.
func read(m *api.Map, laid []byte, number map[string]int) error {
	free := map[string][]int{} // links between two tables, which may be several
	for i, l := range m.Links {
		key := fmt.Sprintf("t%d t%d", number[l.From], number[l.To])
		free[key] = append(free[key], i)
	}
	lines := bufio.NewScanner(bytes.NewReader(laid))
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		fields := strings.Fields(lines.Text())
		numbers := make([]float64, len(fields))
		for i, field := range fields {
			numbers[i], _ = strconv.ParseFloat(field, 64)
		}
		switch fields[0] {
		case "graph":
			m.Width, m.Height = numbers[2]*dots, numbers[3]*dots
		case "node":
			i, err := strconv.Atoi(strings.TrimPrefix(fields[1], "t"))
			if err != nil || i >= len(m.Tables) {
				return fmt.Errorf("read the layout: %q", lines.Text())
			}
			t := &m.Tables[i]
			t.X, t.Y = numbers[2]*dots-t.Width/2, m.Height-numbers[3]*dots-t.Height/2
		case "edge":
			key := fields[1] + " " + fields[2]
			if len(free[key]) == 0 {
				continue
			}
			link := &m.Links[free[key][0]]
			free[key] = free[key][1:]
			points := int(numbers[3])
			var path strings.Builder
			for p := range points {
				x, y := numbers[4+2*p]*dots, m.Height-numbers[5+2*p]*dots
				switch {
				case p == 0:
					fmt.Fprintf(&path, "M%.1f %.1f", x, y)
				case p%3 == 1:
					fmt.Fprintf(&path, " C%.1f %.1f", x, y)
				default:
					fmt.Fprintf(&path, " %.1f %.1f", x, y)
				}
			}
			link.Path = path.String()
		}
	}
	return cmp.Or(lines.Err(), nil)
}
