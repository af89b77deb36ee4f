package schematest

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// Pair is the statements of a schema, and those of it with some changes.
func Pair(seed uint64) (one, other string) {
	random := rand.New(rand.NewPCG(seed, 5))
	first := Random(random, 3+random.IntN(6))
	return first.Statements(), first.Changed(random, 1+random.IntN(12)).Statements()
}

// Changed is a copy with so many changes at random.
func (s *Schema) Changed(random *rand.Rand, changes int) *Schema {
	c := s.copy(random)
	for range changes {
		c.change()
	}
	c.prune()
	return c
}

func (s *Schema) copy(random *rand.Rand) *Schema {
	c := &Schema{random: random, number: s.number + 1000}
	tables, views := map[*table]*table{}, map[*view]*view{}
	clone := func(list []*thing) []*thing {
		var copied []*thing
		for _, one := range list {
			other := *one
			copied = append(copied, &other)
		}
		return copied
	}
	for _, e := range s.enums {
		c.enums = append(c.enums, &enum{name: e.name, labels: slices.Clone(e.labels)})
	}
	c.domains, c.sequences = clone(s.domains), clone(s.sequences)
	for _, t := range s.tables {
		copied := *t
		copied.columns = nil
		for _, one := range t.columns {
			other := *one
			copied.columns = append(copied.columns, &other)
		}
		copied.constraints, copied.indexes = clone(t.constraints), clone(t.indexes)
		copied.triggers, copied.policies = clone(t.triggers), clone(t.policies)
		copied.parts = slices.Clone(t.parts)
		tables[t] = &copied
		c.tables = append(c.tables, &copied)
	}
	for _, v := range s.views {
		copied := *v
		copied.of, copied.over, copied.columns = tables[v.of], views[v.over], slices.Clone(v.columns)
		views[v] = &copied
		c.views = append(c.views, &copied)
	}
	for _, f := range s.functions {
		copied := *f
		copied.of = tables[f.of]
		c.functions = append(c.functions, &copied)
	}
	return c
}

func drop[T any](s *Schema, list []T) []T {
	if len(list) == 0 {
		return list
	}
	at := s.random.IntN(len(list))
	return slices.Delete(list, at, at+1)
}

func (s *Schema) change() {
	t := pick(s, s.tables)
	c := pick(s, t.columns)
	switch s.random.IntN(26) {
	case 0:
		s.addTable()
	case 1:
		inherited := slices.ContainsFunc(
			s.tables,
			func(o *table) bool { return o.parent == t.name },
		) // what then is the child's own cannot be given back
		if len(s.tables) > 2 && !inherited {
			s.tables = slices.DeleteFunc(s.tables, func(o *table) bool { return o == t })
		}
	case 2, 3:
		s.addColumn(t)
	case 4:
		if len(t.columns) > 2 && c.name != "id" {
			t.columns = slices.DeleteFunc(t.columns, func(o *column) bool { return o == c })
		}
	case 5, 6:
		if c.name != "id" {
			s.type_(c)
		}
	case 7:
		if c.name != "id" {
			c.required = !c.required
		}
	case 8:
		if c.name != "id" && c.generated == "" && !strings.HasPrefix(c.kind, "port.") {
			c.fallback = "NULL"
		}
	case 9:
		c.comment = pick(s, []string{"", "another word", `a "quoted" \ one`})
		t.comment = pick(s, []string{"", "the table"})
	case 10:
		s.addConstraint(t)
	case 11:
		t.constraints = drop(s, t.constraints)
	case 12:
		s.addForeignKey(t)
	case 13:
		s.addIndex(t)
	case 14:
		t.indexes = drop(s, t.indexes)
	case 15:
		e := pick(s, s.enums)
		s.number++
		e.labels = slices.Insert(e.labels, s.random.IntN(len(e.labels)+1), fmt.Sprintf("label %d", s.number))
	case 16:
		if e := pick(s, s.enums); len(e.labels) > 1 {
			e.labels = drop(s, e.labels)
		}
	case 17:
		pick(s, s.domains).text = pick(
			s,
			[]string{"numeric(6,2)", "numeric(6,2) CHECK (VALUE > 1)", "numeric(6,2) DEFAULT 9", "integer"},
		)
	case 18:
		pick(s, s.sequences).text = pick(s, []string{"", "START 9", "CYCLE MAXVALUE 500"})
	case 19:
		s.addView()
	case 20:
		v := pick(s, s.views)
		v.comment = pick(s, []string{"", "a view"})
		if s.one(2) && len(v.columns) > 1 {
			v.columns = v.columns[1:]
		} else {
			v.materialized = !v.materialized
		}
	case 21:
		s.addFunction()
	case 22:
		if f := pick(s, s.functions); f.of == nil {
			f.result = pick(s, []string{"integer", "bigint", "text"})
			f.body = fmt.Sprintf("SELECT %d::%s", s.random.IntN(100), f.result)
		}
	case 23:
		s.addTrigger(t)
		t.triggers = drop(s, t.triggers)
	case 24:
		t.options = pick(s, []string{"", "fillfactor=50"})
		if len(t.parts) > 0 {
			t.options = ""
		}
	case 25:
		if id := t.columns[0]; id.name == "id" && len(t.parts) == 0 && t.parent == "" {
			id.fallback, id.identity = "", pick(s, []string{"", "ALWAYS", "BY DEFAULT"})
		}
	}
}

// prune takes out what stands on something that is no longer there.
func (s *Schema) prune() {
	for _, t := range s.tables {
		if t.parent != "" && !slices.ContainsFunc(s.tables, func(o *table) bool { return o.name == t.parent }) {
			t.parent = ""
			t.columns = append([]*column{{name: "id", kind: "integer", required: true}}, t.columns...)
		}
	}
	var keys []string
	for _, t := range s.tables {
		if slices.ContainsFunc(t.constraints, func(c *thing) bool { return c.text == "PRIMARY KEY (id)" }) {
			keys = append(keys, "REFERENCES port."+t.name+"(id)")
		}
		for _, c := range t.columns {
			if strings.HasPrefix(c.kind, "port.") && c.fallback != "" &&
				!slices.ContainsFunc(s.enums, func(e *enum) bool {
					return c.kind == "port."+e.name && slices.Contains(e.labels, strings.Trim(c.fallback, "'"))
				}) {
				c.fallback = ""
			}
		}
	}
	for _, t := range s.tables {
		numbers := append(t.find("integer", "bigint", "numeric(8,3)"), "id")
		kept := func(x *thing) bool { // only of columns that are there, and still have a fitting type
			if !strings.Contains(x.text, "value") {
				return true
			}
			rest := x.text
			found := false
			for _, name := range numbers {
				if strings.Contains(rest, name) {
					rest, found = strings.ReplaceAll(rest, name, ""), true
				}
			}
			return found && !strings.Contains(rest, "value")
		}
		t.constraints = slices.DeleteFunc(t.constraints, func(x *thing) bool {
			if !strings.HasPrefix(x.text, "FOREIGN KEY") {
				return !kept(x)
			}
			at := strings.Index(x.text, " REFERENCES")
			whole := slices.ContainsFunc(keys, func(key string) bool { return strings.Contains(x.text, key) }) &&
				slices.ContainsFunc(
					t.find("integer", "bigint"),
					func(name string) bool { return x.text[:at] == "FOREIGN KEY ("+name+")" },
				)
			for _, c := range t.columns {
				whole = whole && !(c.generated != "" && strings.Contains(x.text, "("+c.name+")"))
			}
			return !whole
		})
		t.indexes = slices.DeleteFunc(t.indexes, func(x *thing) bool { return !kept(x) })
	}
	there := func(t *table) bool { return t == nil || slices.Contains(s.tables, t) }
	var views []*view
	for _, v := range s.views {
		if !there(v.of) {
			continue
		}
		v.columns = slices.DeleteFunc(v.columns, func(name string) bool {
			return !slices.ContainsFunc(v.of.columns, func(c *column) bool { return c.name == name })
		})
		if len(v.columns) > 0 && (v.over == nil || slices.Contains(views, v.over)) {
			views = append(views, v)
		}
	}
	s.views = views
	s.functions = slices.DeleteFunc(s.functions, func(f *function) bool {
		if !there(f.of) {
			return true
		}
		return f.atomic &&
			!slices.ContainsFunc(
				f.of.columns,
				func(c *column) bool { return strings.HasSuffix(f.body, " WHERE "+c.name+" IS NULL") },
			)
	})
}
