package schema_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"vorrang/core/schema"
)

func harbour() []schema.Object {
	return []schema.Object{
		{Kind: schema.Table, Name: "harbour.vessel", Props: schema.Props{schema.OwnedByRole: "nordmole"}},
		{
			Kind:  schema.Column,
			Name:  "harbour.vessel.name",
			Of:    "harbour.vessel",
			Props: schema.Props{schema.DataType: "text", schema.Null: "no"},
		},
		{
			Kind:  schema.Column,
			Name:  "harbour.vessel.draught",
			Of:    "harbour.vessel",
			Props: schema.Props{schema.DataType: "integer"},
		},
		{Kind: schema.Namespace, Name: "harbour"},
		{Kind: schema.Function, Name: "harbour.greet(text)", Props: schema.Props{schema.Definition: "SELECT 1\n\\x"}},
	}
}

func TestTheFingerprintDoesNotDependOnTheOrder(t *testing.T) {
	objects := harbour()
	want := schema.New(objects, nil)
	assert.Len(t, want.Fingerprint(), 64)
	for range 20 {
		rand.Shuffle(len(objects), func(i, j int) { objects[i], objects[j] = objects[j], objects[i] })
		assert.Equal(t, want.Fingerprint(), schema.New(objects, nil).Fingerprint())
	}
	assert.Equal(t, strings.Join([]string{
		"schema harbour", "table harbour.vessel", "  owner: nordmole", "column harbour.vessel.draught", "  type: integer",
		"column harbour.vessel.name", "  null: no", "  type: text", "function harbour.greet(text)",
		`  definition: SELECT 1\n\\x`, ""}, "\n"), want.Text())
	objects[0].Props = schema.Props{schema.OwnedByRole: "eve"}
	assert.NotEqual(t, want.Fingerprint(), schema.New(objects, nil).Fingerprint())
}

func TestALineEndInANameForgesNothing(t *testing.T) {
	one := schema.New([]schema.Object{{Kind: schema.Table, Name: "a\ntable b"}}, nil)
	two := schema.New([]schema.Object{{Kind: schema.Table, Name: "a"}, {Kind: schema.Table, Name: "b"}}, nil)
	assert.NotEqual(t, one.Fingerprint(), two.Fingerprint())
}

func TestDifferencesAreByObjectAndProperty(t *testing.T) {
	before := schema.New(harbour(), nil)
	assert.Empty(t, schema.Compare(before, before))
	objects := harbour()
	objects[1].Props = schema.Props{schema.DataType: "varchar(80)", schema.Comment: "as on the bow"}
	objects = append(objects[:2], objects[3:4]...)
	objects = append(
		objects,
		schema.Object{
			Kind: schema.Table,
			Name: "harbour.berth",
		},
		schema.Object{Kind: schema.Column, Name: "harbour.berth.id", Of: "harbour.berth"},
		schema.Object{Kind: schema.Index, Name: "harbour.vessel_name", Of: "harbour.vessel"},
	)
	after := schema.New(objects, nil)
	var output []string
	for _, d := range schema.Compare(before, after) {
		output = append(output, d.String())
	}
	assert.Equal(
		t,
		[]string{
			"added table harbour.berth",
			"removed column harbour.vessel.draught",
			"changed column harbour.vessel.name",
			"added index harbour.vessel_name",
			"removed function harbour.greet(text)",
		},
		output,
		"what belongs to a new table goes without saying",
	)
	assert.Equal(
		t,
		[]schema.Change{
			{Name: "comment", After: "as on the bow"},
			{Name: "null", Before: "no"},
			{Name: "type", Before: "text", After: "varchar(80)"},
		},
		schema.Compare(before, after)[2].Props,
	)
	back := schema.Compare(after, before)
	assert.Equal(t, "removed table harbour.berth", back[0].String())
	assert.Len(t, back, 5)
}

func TestWhatOftenDiffersCanBeLeftOut(t *testing.T) {
	objects := harbour()
	before := schema.New(objects, nil)
	objects[0].Props = schema.Props{schema.OwnedByRole: "eve"}
	after := schema.New(
		append(
			objects,
			schema.Object{Kind: schema.DefaultGrant, Name: "eve tables", Props: schema.Props{schema.Grants: "=r/eve"}},
		),
		nil,
	)
	assert.Len(t, schema.Compare(before, after), 2)
	assert.Equal(
		t, before.Without(schema.OwnedByRole, schema.Grants).Fingerprint(),
		after.Without(schema.OwnedByRole, schema.Grants).Fingerprint(),
	)
	assert.Equal(t, "eve", after.Objects[1].Props[schema.OwnedByRole], "the original stays as it is")
}
