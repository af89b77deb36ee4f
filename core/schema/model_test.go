package schema_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/schema"
)

func columns(table string, names ...string) []schema.Object {
	objects := []schema.Object{{Kind: schema.Table, Name: table}}
	for i, name := range names {
		objects = append(
			objects,
			schema.Object{
				Kind:  schema.Column,
				Name:  table + "." + name,
				Of:    table,
				Place: 10 * (i + 1),
				Props: schema.Props{schema.DataType: "text"},
			},
		)
	}
	return objects
}

func TestColumnsStandInTheirOrder(t *testing.T) {
	is := schema.New(append(columns("berth", "name", "depth", "lit"), columns("quay", "a", "b")...), nil)
	var names []string
	for _, c := range schema.Columns(is)["berth"] {
		names = append(names, c.Local())
	}
	assert.Equal(t, []string{"name", "depth", "lit"}, names)
	assert.Equal(t, "berth", is.Objects[0].Local(), "of nothing it is the whole name")

	assert.Empty(t, schema.Reordered(is, is))
	assert.Equal(
		t,
		[]string{"berth"},
		schema.Reordered(
			is,
			schema.New(append(columns("berth", "depth", "name", "lit"), columns("quay", "a", "b")...), nil),
		),
	)
	assert.Empty(
		t,
		schema.Reordered(is, schema.New(append(columns("berth", "name", "new", "lit"), columns("quay", "b")...), nil)),
		"what comes and goes changes no order",
	)
}

func TestNamesAreTakenApart(t *testing.T) {
	for name, want := range map[string][2]string{"berth": {"", "berth"}, "harbour.berth": {"harbour.", "berth"},
		`harbour."The.Berth".a`: {`harbour."The.Berth".`, "a"}, `"a.b"`: {"", `"a.b"`},
		"quay.`a.b`": {"quay.", "`a.b`"}, "`a\"`.b": {"`a\"`.", "b"}, "\"a`\".\"b.c\"": {"\"a`\".", `"b.c"`}} {
		assert.Equal(t, want, [2]string{schema.Qualifier(name), schema.Unqualified(name)}, name)
	}
	for text, want := range map[string][]string{"": nil, "a": {"a"}, "a, b": {"a", "b"},
		"f(a, b), 'c, d', \"e, f\", {g,h}": {"f(a, b)", "'c, d'", "\"e, f\"", "{g,h}"}} {
		assert.Equal(t, want, schema.List(text), text)
	}
	assert.Less(t, schema.Rank(schema.Table), schema.Rank(schema.Index))
}

func TestAnEffectTellsMoreThanADifference(t *testing.T) {
	view := []schema.Object{{Kind: schema.View, Name: "deep"}, {Kind: schema.Column, Name: "deep.id", Of: "deep"}}
	after := schema.New(
		append(
			append(columns("berth", "name", "depth"), view...),
			schema.Object{
				Kind:  schema.Index,
				Name:  "berth_name",
				Of:    "berth",
				Props: schema.Props{schema.Definition: "(name)"},
			},
		),
		nil,
	)
	output := func(list []schema.Difference) (all []string) {
		for _, d := range list {
			all = append(all, d.String())
		}
		return all
	}
	empty := schema.New(nil, nil)
	assert.Equal(t, []string{"added table berth", "added view deep"}, output(schema.Compare(empty, after)))
	effect := schema.Effect(empty, after)
	assert.Equal(
		t,
		[]string{
			"added table berth", "added column berth.depth", "added column berth.name", "added index berth_name",
			"added view deep",
		},
		output(effect),
		"with what belongs to a table, but for a view's columns",
	)
	assert.Equal(t, []schema.Change{{Name: "definition", After: "(name)"}}, effect[3].Props)
	assert.Equal(t, "added table berth, added column berth.depth, and 3 more", schema.Summary(effect, 2))
	assert.Equal(
		t,
		[]string{
			"removed table berth",
			"removed column berth.depth",
			"removed column berth.name",
			"removed index berth_name", "removed view deep",
		},
		output(schema.Effect(after, empty)),
	)

	lit := schema.New(
		append(append(columns("berth", "name", "depth", "lit"), view...), after.Objects[len(after.Objects)-2]),
		nil,
	)
	assert.Contains(t, output(schema.Effect(after, lit)), "added column berth.lit")
}

func TestTwoValuesAreToldApart(t *testing.T) {
	before, after := schema.Change{Name: "null", Before: "no"}.Words()
	assert.Equal(t, [2]string{"not allowed", "allowed"}, [2]string{before, after})
	before, after = schema.Change{Name: "default", After: "80"}.Words()
	assert.Equal(t, [2]string{"none", "80"}, [2]string{before, after})

	long := strings.Repeat("SELECT name FROM berth UNION ", 20)
	before, after = schema.Apart(long+"SELECT a "+long, long+"SELECT b, c "+long)
	for text, want := range map[string]string{before: "SELECT a", after: "SELECT b, c"} {
		assert.Contains(t, text, want)
		assert.Less(t, len(text), 140)
		assert.True(t, strings.HasPrefix(text, "…") && strings.HasSuffix(text, "…"), text)
	}
	before, after = schema.Apart("", "ä"+long)
	assert.Empty(t, before)
	assert.True(t, strings.HasSuffix(after, "…"))
	before, after = schema.Apart("a  b", "a\nc")
	assert.Equal(t, [2]string{"a b", "a c"}, [2]string{before, after})
}

func TestStatisticsAreTheSameInAnyOrder(t *testing.T) {
	a := schema.New(
		[]schema.Object{
			{
				Kind:  schema.Statistics,
				Name:  "s",
				Props: schema.Props{schema.Definition: "CREATE STATISTICS s ON b, a FROM berth"},
			},
		},
		nil,
	)
	b := schema.New(
		[]schema.Object{
			{
				Kind:  schema.Statistics,
				Name:  "s",
				Props: schema.Props{schema.Definition: "CREATE STATISTICS s ON a, b FROM berth"},
			},
		},
		nil,
	)
	require.Equal(t, a.Fingerprint(), b.Fingerprint())
	assert.Equal(t, "odd", schema.StatisticsInOrder("odd"))
}
