package draft

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/schema"
)

func TestARenameIsOneName(t *testing.T) {
	for text, want := range map[string]string{"harbour.vessel.name=title": "harbour.vessel.name=harbour.vessel.title",
		"harbour.vessel=harbour.ship":  "harbour.vessel=harbour.ship",
		`harbour."The Quay".a="b.""c"`: `harbour."The Quay".a=harbour."The Quay"."b.""c"`} {
		r, err := ParseRename(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, r.String())
	}
	for _, text := range []string{"", "a", "=b", "a=", "a=b; DROP TABLE c", "a=b c", `a="b`, `a="b"; SELECT ""`, "a=B"} {
		_, err := ParseRename(text)
		assert.Error(t, err, text)
	}
}

func TestWhatMayBeARenameIsAsked(t *testing.T) {
	table := func(name string, columns ...string) []schema.Object {
		objects := []schema.Object{{Kind: schema.Table, Name: name}}
		for i, c := range columns {
			objects = append(
				objects,
				schema.Object{
					Kind:  schema.Column,
					Name:  name + "." + c,
					Of:    name,
					Place: i + 1,
					Props: schema.Props{schema.DataType: "text"},
				},
			)
		}
		return objects
	}
	is := schema.New(append(table("harbour.vessel", "id", "name", "flag"), table("harbour.quay", "a")...), nil)
	should := schema.New(append(table("harbour.ship", "id", "title", "flag"), table("harbour.quay", "b")...), nil)
	assert.Equal(
		t,
		[]Question{
			{schema.Column, "harbour.quay.a", "harbour.quay.b"},
			{schema.Table, "harbour.vessel", "harbour.ship"},
		},
		questions(is, should, nil),
	)
	answered := []Rename{{Old: "harbour.vessel", New: "ship"}, {Old: "harbour.quay.a", New: "b"}}
	assert.Equal(
		t,
		[]Question{{schema.Column, "harbour.vessel.name", "harbour.ship.title"}},
		questions(is, should, answered),
		"once it is the same table, its columns are checked",
	)
	assert.Empty(t, questions(is, is, nil))
}
