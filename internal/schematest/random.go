// Package schematest makes schemas at random, as statements, for tests that
// hold drafts against the server and against pg_dump.
package schematest

import (
	_ "embed"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// Schema is a schema at random, that can be changed at random.
type Schema struct {
	random *rand.Rand
	number int // of the next name

	enums     []*enum
	domains   []*thing
	sequences []*thing
	tables    []*table
	views     []*view
	functions []*function
}

// thing is a name with a text that varies.
type thing struct{ name, text, comment string }

type enum struct {
	name   string
	labels []string
}

type column struct {
	name, kind, fallback, generated, identity, comment, storage string
	required                                                    bool
}

type table struct {
	name        string
	columns     []*column
	constraints []*thing
	indexes     []*thing
	triggers    []*thing
	policies    []*thing
	options     string
	comment     string
	unlogged    bool
	parts       []string // a partitioned table's partitions
	parent      string   // that it inherits from
	secured     bool
}

type view struct {
	name         string
	of           *table
	columns      []string
	materialized bool
	over         *view
	comment      string
}

type function struct {
	name, body, result, volatility string
	arguments                      string
	of                             *table
	atomic                         bool
}

// Random makes a schema of about so many tables.
func Random(random *rand.Rand, tables int) *Schema {
	s := &Schema{random: random}
	for range 1 + tables/3 {
		s.addEnum()
	}
	for range 1 + tables/4 {
		s.addDomain()
		s.addSequence()
	}
	for range tables {
		s.addTable()
	}
	for range tables {
		s.addView()
		s.addFunction()
	}
	for _, t := range s.tables {
		if s.one(3) {
			s.addForeignKey(t)
		}
		if s.one(4) {
			s.addTrigger(t)
		}
	}
	return s
}

func (s *Schema) one(in int) bool { return s.random.IntN(in) == 0 }

func pick[T any](s *Schema, list []T) T { return list[s.random.IntN(len(list))] }

// name makes a name that is new; some need quotes.
func (s *Schema) name(stem string) string {
	s.number++
	switch s.random.IntN(12) {
	case 0:
		return fmt.Sprintf(`"%s No. %d"`, stem, s.number)
	case 1:
		return fmt.Sprintf(`"%s""%d"`, stem, s.number)
	}
	return fmt.Sprintf("%s_%d", stem, s.number)
}

func (s *Schema) addEnum() {
	e := &enum{name: s.name("kind")}
	for range 1 + s.random.IntN(4) {
		s.number++
		e.labels = append(e.labels, fmt.Sprintf("label %d", s.number))
	}
	s.enums = append(s.enums, e)
}

func (s *Schema) addDomain() {
	s.domains = append(
		s.domains,
		&thing{
			name: s.name("length"),
			text: pick(
				s,
				[]string{
					"numeric(6,2)", "integer",
					"numeric(6,2) CHECK (VALUE > 0)",
					"numeric(6,2) DEFAULT 7",
					"integer NOT NULL CHECK (VALUE < 1000)",
				},
			),
		},
	)
}

func (s *Schema) addSequence() {
	s.sequences = append(
		s.sequences,
		&thing{
			name: s.name("counter"),
			text: pick(s, []string{"", "START 5", "INCREMENT 2 CYCLE MAXVALUE 1000", "AS integer CACHE 10"}),
		},
	)
}

func (s *Schema) addTable() *table {
	t := &table{name: s.name("berth"), unlogged: s.one(12), secured: s.one(8)}
	if s.one(6) {
		t.options = pick(s, []string{"fillfactor=70", "autovacuum_enabled=false", "fillfactor=90, parallel_workers=2"})
	}
	t.columns = append(t.columns, &column{name: "id", kind: "integer", required: true})
	switch s.random.IntN(4) {
	case 0:
		t.columns[0].identity = pick(s, []string{"ALWAYS", "BY DEFAULT"})
	case 1:
		t.columns[0].fallback = fmt.Sprintf(
			"nextval('port.%s')",
			strings.ReplaceAll(pick(s, s.sequences).name, "'", "''"),
		)
	}
	for range 1 + s.random.IntN(6) {
		s.addColumn(t)
	}
	switch {
	case s.one(7):
		for range 1 + s.random.IntN(3) {
			t.parts = append(t.parts, s.name("part"))
		}
		t.unlogged, t.options = false, ""
		t.columns[0].identity = ""
	case s.one(9):
		var roots []*table
		for _, other := range s.tables {
			if other.parent == "" && len(other.parts) == 0 && !other.unlogged {
				roots = append(roots, other)
			}
		}
		if len(roots) > 0 {
			t.parent, t.unlogged = pick(s, roots).name, false
			t.columns = t.columns[1:]
		}
	}
	if t.parent == "" && !s.one(6) {
		t.constraints = append(t.constraints, &thing{name: s.name("key"), text: "PRIMARY KEY (id)"})
	}
	for range s.random.IntN(3) {
		s.addConstraint(t)
		s.addIndex(t)
	}
	if t.secured {
		t.policies = append(
			t.policies,
			&thing{
				name: s.name("own"),
				text: pick(
					s,
					[]string{
						"FOR SELECT USING (true)",
						"AS RESTRICTIVE FOR UPDATE USING (true) WITH CHECK (false)",
						"TO PUBLIC USING (1 = 1)",
					},
				),
			},
		)
	}
	s.tables = append(s.tables, t)
	return t
}

func (s *Schema) addColumn(t *table) {
	c := &column{name: s.name("value")}
	s.type_(c)
	if s.one(4) {
		c.required = true
	}
	if s.one(9) {
		c.comment = "it's " + c.name
	}
	if s.one(12) && (c.kind == "text" || c.kind == "jsonb") {
		c.storage = pick(s, []string{"EXTERNAL", "MAIN"})
	}
	t.columns = append(t.columns, c)
}

func (s *Schema) type_(c *column) {
	c.kind = pick(
		s,
		[]string{
			"integer", "bigint", "text", "character varying(40)", "numeric(8,3)", "boolean",
			"timestamp with time zone", "date", "jsonb", "text[]", "uuid", "double precision",
		},
	)
	c.fallback, c.generated, c.storage = "", "", ""
	switch {
	case s.one(6):
		e := pick(s, s.enums)
		c.kind = "port." + e.name
		if s.one(2) {
			c.fallback = "'" + pick(s, e.labels) + "'"
		}
	case s.one(8):
		c.kind = "port." + pick(s, s.domains).name
	case s.one(10):
		c.kind, c.generated = "integer", "(id * "+fmt.Sprint(1+s.random.IntN(9))+")"
	case s.one(4):
		c.fallback = map[string]string{"integer": "7", "bigint": "(3 + 4)", "text": "'none'", "boolean": "false",
			"date": "CURRENT_DATE", "timestamp with time zone": "now()", "jsonb": "'{}'"}[c.kind]
	}
}

func (t *table) find(kinds ...string) []string {
	names := []string{}
	for _, c := range t.columns {
		if slices.Contains(kinds, c.kind) {
			names = append(names, c.name)
		}
	}
	return names
}

func (s *Schema) addConstraint(t *table) {
	numbers := t.find("integer", "bigint", "numeric(8,3)")
	if len(numbers) == 0 || t.parent != "" {
		return
	}
	text := fmt.Sprintf("CHECK (%s > %d)", pick(s, numbers), s.random.IntN(50))
	switch {
	case s.one(3) && len(t.parts) == 0:
		text = fmt.Sprintf("UNIQUE (%s)", pick(s, numbers)) + pick(
			s,
			[]string{"", " DEFERRABLE", " DEFERRABLE INITIALLY DEFERRED"},
		)
	case s.one(5) && len(t.parts) == 0:
		text += " NOT VALID"
	}
	t.constraints = append(t.constraints, &thing{name: s.name("rule"), text: text})
}

func (s *Schema) addForeignKey(t *table) {
	var keyed []*table
	for _, other := range s.tables {
		if slices.ContainsFunc(other.constraints, func(c *thing) bool { return c.text == "PRIMARY KEY (id)" }) &&
			other.unlogged == t.unlogged {
			keyed = append(keyed, other)
		}
	}
	if numbers := t.find("integer", "bigint"); len(numbers) > 0 && len(keyed) > 0 && t.parent == "" {
		text := fmt.Sprintf("FOREIGN KEY (%s) REFERENCES port.%s(id)", pick(s, numbers), pick(s, keyed).name) + pick(
			s,
			[]string{"", " ON DELETE CASCADE", " DEFERRABLE INITIALLY DEFERRED"},
		)
		for _, c := range t.columns {
			if c.generated != "" && strings.Contains(text, "("+c.name+")") {
				return // a generated column may not cascade
			}
		}
		t.constraints = append(t.constraints, &thing{name: s.name("link"), text: text})
	}
}

func (s *Schema) addIndex(t *table) {
	names := t.find("integer", "bigint", "text", "character varying(40)", "numeric(8,3)", "date", "boolean")
	if len(names) == 0 {
		return
	}
	one, other := pick(s, names), pick(s, names)
	text := pick(
		s,
		[]string{
			"(" + one + ")",
			"(" + one + " DESC NULLS LAST)",
			"(" + one + ", " + other + ")",
			"(" + one + ") WHERE " + other + " IS NOT NULL",
			"USING hash (" + one + ")",
			"((" + one + "::text))",
		},
	)
	if one == other {
		text = strings.Replace(text, ", "+other, "", 1)
	}
	if strings.Contains(text, "::text") && len(t.find("date")) > 0 {
		text = "(" + one + ")" // a date's text is not immutable
	}
	t.indexes = append(t.indexes, &thing{name: s.name("finder"), text: text})
}

func (s *Schema) addTrigger(t *table) {
	t.triggers = append(
		t.triggers,
		&thing{
			name: s.name("watch"),
			text: pick(s, []string{"BEFORE UPDATE", "AFTER INSERT OR DELETE", "BEFORE INSERT"}),
		},
	)
}

func (s *Schema) addView() {
	v := &view{name: s.name("look"), of: pick(s, s.tables), materialized: s.one(4)}
	for _, c := range v.of.columns {
		if !s.one(3) {
			v.columns = append(v.columns, c.name)
		}
	}
	if len(v.columns) == 0 {
		v.columns = []string{v.of.columns[0].name}
	}
	if s.one(3) && len(s.views) > 0 {
		v.over = pick(s, s.views)
	}
	s.views = append(s.views, v)
}

func (s *Schema) addFunction() {
	f := &function{
		name:       s.name("count"),
		volatility: pick(s, []string{"IMMUTABLE", "STABLE", "VOLATILE"}),
		arguments:  pick(s, []string{"", "a integer", "a integer, b text DEFAULT 'x'", "VARIADIC a integer[]"}),
		result:     pick(s, []string{"integer", "bigint", "text"}),
	}
	f.body = fmt.Sprintf("SELECT %d::%s", s.random.IntN(100), f.result)
	switch {
	case s.one(4):
		f.of = pick(s, s.tables)
		f.result, f.body = "SETOF port."+f.of.name, "SELECT * FROM port."+f.of.name
	case s.one(4):
		f.atomic = true
		f.of = pick(s, s.tables)
		f.result = "bigint"
		f.body = fmt.Sprintf("SELECT count(*) FROM port.%s WHERE %s IS NULL", f.of.name, pick(s, f.of.columns).name)
	}
	s.functions = append(s.functions, f)
}

// Odd is what PostgreSQL's documentation shows under CREATE, and that a model
// must cover, in forms that are seldom seen.
//
//go:embed odd.sql
var Odd string
