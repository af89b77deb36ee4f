package drafting_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/schema"
	"vorrang/target/postgres/drafting"
)

// These tests need no server. That the statements do what they should is shown on one
// in target/postgres, which also keeps the examples in testdata.

var update = flag.Bool("update", false, "write the expected scripts again")

func example(t *testing.T, name string) (is, should schema.Schema) {
	var both [2]schema.Schema
	text, err := os.ReadFile(filepath.Join("testdata", name+".json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &both))
	return both[0], both[1]
}

func written(s schema.Script) string {
	var b strings.Builder
	for _, part := range s.Parts {
		fmt.Fprintf(&b, "-- autocommit: %t\n", part.Autocommit)
		for _, statement := range part.Statements {
			fmt.Fprintf(&b, "%s;\n", statement.SQL)
			for _, note := range []string{statement.Loses, statement.Takes} {
				if note != "" {
					fmt.Fprintf(&b, "  -- %s\n", note)
				}
			}
		}
	}
	for _, u := range s.Undraftable {
		fmt.Fprintf(&b, "-- not drafted: %s %s: %s\n", u.Kind, u.Name, u.Why)
	}
	return b.String()
}

var styles = map[string]schema.Style{
	"plain":      {},
	"whole":      {Owners: true},
	"concurrent": {Owners: true, Concurrent: true},
}

func TestScriptsAreAsExpected(t *testing.T) {
	for _, name := range []string{"first", "pair", "odd"} {
		is, should := example(t, name)
		for direction, script := range map[string]schema.Script{
			"forward": drafting.Draft(is, should, styles["concurrent"]),
			"back":    drafting.Draft(should, is, styles["concurrent"]),
		} {
			file := filepath.Join("testdata", name+"."+direction+".sql")
			if *update {
				require.NoError(t, os.WriteFile(file, []byte(written(script)), 0o644))
			}
			want, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Equal(t, string(want), written(script), file)
		}
	}
}

// The order in which a catalog is read has no part in what is written.
func TestAScriptDoesNotDependOnTheOrderOfObjects(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	shuffled := func(s schema.Schema) schema.Schema {
		s.Objects = slices.Clone(s.Objects)
		for i, o := range s.Objects {
			s.Objects[i].Needs = slices.Clone(o.Needs)
			random.Shuffle(len(o.Needs), func(a, b int) {
				s.Objects[i].Needs[a], s.Objects[i].Needs[b] = s.Objects[i].Needs[b], s.Objects[i].Needs[a]
			})
		}
		return s
	}
	for _, name := range []string{"first", "pair", "odd"} {
		is, should := example(t, name)
		for what, style := range styles {
			want := written(drafting.Draft(is, should, style))
			for range 10 {
				require.Equal(
					t, want, written(drafting.Draft(shuffled(is), shuffled(should), style)), "%s, %s", name, what,
				)
			}
		}
	}
}

// place is where a statement with some words stands, and -1 if none does.
func place(script schema.Script, words string) int {
	var all []string
	for _, part := range script.Parts {
		for _, s := range part.Statements {
			all = append(all, s.SQL)
		}
	}
	return slices.IndexFunc(all, func(sql string) bool { return strings.Contains(sql+"\n", words) })
}

func assertOrder(t *testing.T, script schema.Script, words ...string) {
	t.Helper()
	last := -1
	for _, w := range words {
		at := place(script, w)
		assert.Greater(t, at, last, "%s comes behind what stands before it:\n%s", w, written(script))
		last = at
	}
}

func table(name string, columns ...schema.Object) []schema.Object {
	objects := []schema.Object{{Kind: schema.Table, Name: name, Needs: []string{"schema public"}}}
	for i, c := range columns {
		c.Kind, c.Of, c.Name, c.Place = schema.Column, name, name+"."+c.Name, i+1
		objects = append(objects, c)
	}
	return objects
}

func column(name, typ string) schema.Object {
	return schema.Object{Name: name, Props: schema.Props{schema.DataType: typ}}
}

func of(lists ...[]schema.Object) schema.Schema {
	return schema.New(slices.Concat(append(lists, []schema.Object{{Kind: schema.Namespace, Name: "public"}})...), nil)
}

func foreignKey(table, to string) schema.Object {
	return schema.Object{
		Kind:  schema.Constraint,
		Of:    table,
		Name:  table + ".to_" + to[len("public."):],
		Needs: []string{"table " + table, "table " + to, "column " + table + ".ref", "column " + to + ".id"},
		Props: schema.Props{schema.Definition: "FOREIGN KEY (ref) REFERENCES " + to + "(id)"},
	}
}

// Two tables that refer to each other are both made before either refers.
func TestWhatNeedsEachOtherIsTakenApart(t *testing.T) {
	both := of(
		table("public.berth", column("id", "integer"), column("ref", "integer")),
		table("public.vessel", column("id", "integer"), column("ref", "integer")),
		[]schema.Object{foreignKey("public.berth", "public.vessel"), foreignKey("public.vessel", "public.berth")},
	)
	there := drafting.Draft(of(), both, schema.Style{})
	for _, refers := range []string{"ADD CONSTRAINT to_vessel", "ADD CONSTRAINT to_berth"} {
		assertOrder(t, there, "CREATE TABLE public.berth", refers)
		assertOrder(t, there, "CREATE TABLE public.vessel", refers)
	}
	back := drafting.Draft(both, of(), schema.Style{})
	assert.Empty(t, back.Undraftable)
	assert.NotEqual(t, -1, place(back, "DROP TABLE public.berth"))
	assert.NotEqual(t, -1, place(back, "DROP TABLE public.vessel"))
}

// What stands on something that is made again goes before it, and comes back after it.
func TestWhatStandsOnAChangeGoesBeforeIt(t *testing.T) {
	view := func(name, on string) schema.Object {
		return schema.Object{
			Kind:  schema.View,
			Name:  name,
			Needs: []string{"schema public", on, "column " + strings.Fields(on)[1] + ".draught"},
			Props: schema.Props{schema.Definition: "SELECT draught FROM " + strings.Fields(on)[1]},
		}
	}
	with := func(typ string) schema.Schema {
		return of(
			table("public.vessel", column("draught", typ)),
			[]schema.Object{view("public.deep", "table public.vessel"), view("public.deeper", "view public.deep"),
				{
					Kind:  schema.Column,
					Of:    "public.deep",
					Name:  "public.deep.draught",
					Place: 1,
					Props: schema.Props{schema.DataType: typ},
					Needs: []string{"column public.vessel.draught"},
				},
				{
					Kind:  schema.Column,
					Of:    "public.deeper",
					Name:  "public.deeper.draught",
					Place: 1,
					Props: schema.Props{schema.DataType: typ},
					Needs: []string{"column public.deep.draught"},
				}},
		)
	}
	script := drafting.Draft(with("integer"), with("numeric"), schema.Style{})
	assertOrder(
		t, script, "DROP VIEW public.deeper",
		"DROP VIEW public.deep\n",
		"TYPE numeric", "CREATE VIEW public.deep ",
		"CREATE VIEW public.deeper ",
	)
}

func TestWhatIsLostIsSaid(t *testing.T) {
	is := of(
		table("public.vessel", column("id", "integer"), column("draught", "integer")),
		table("public.pilot", column("id", "integer")),
	)
	script := drafting.Draft(is, of(table("public.vessel", column("id", "integer"))), schema.Style{})
	text := written(script)
	assert.Contains(t, text, "-- what is in public.vessel.draught")
	assert.Contains(t, text, "-- the rows of public.pilot")
	assert.Empty(
		t,
		drafting.Draft(is, is, schema.Style{Owners: true}).Parts,
		"nothing is written where nothing differs",
	)
}
