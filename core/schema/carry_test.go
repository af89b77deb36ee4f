package schema_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vorrang/core/schema"
)

func TestWhatDifferedBeforeADeploymentStillDiffersAfterIt(t *testing.T) {
	column := func(name, props string) schema.Object {
		o := schema.Object{
			Kind:  schema.Column,
			Name:  "vessel." + name,
			Of:    "vessel",
			Props: schema.Props{schema.DataType: props},
		}
		return o
	}
	with := func(o schema.Object, key, value string) schema.Object {
		props := schema.Props{schema.Property(key): value}
		for k, v := range o.Props {
			props[k] = v
		}
		o.Props = props
		return o
	}
	of := func(objects ...schema.Object) schema.Schema { return schema.New(objects, nil) }
	id, name, draught := column("id", "bigint"), column("name", "text"), column("draught", "numeric")
	cases := map[string]struct {
		known, before, after schema.Schema
		drift                []string
	}{
		"nothing by hand": {of(id), of(id), of(id, name), nil},
		"an object added by hand": {
			of(id), of(id, name), of(id, name, draught),
			[]string{"added column vessel.name"},
		},
		"one taken away by hand": {
			of(id, name), of(id), of(id, draught),
			[]string{"removed column vessel.name"},
		},
		"one taken away, which a step makes": {of(id, name), of(id), of(id, name), nil},
		"one added, which a step takes away": {of(id), of(id, name), of(id), nil},
		"one changed by hand": {
			of(id),
			of(column("id", "int")),
			of(column("id", "int"), name),
			[]string{"changed column vessel.id"},
		},
		"one changed, and changed by a step": {of(id), of(column("id", "int")), of(column("id", "text")), nil},
		"one changed, and another way by a step": {
			of(id),
			of(with(id, "default", "1")),
			of(with(with(id, "default", "1"), "comment", "c")),
			[]string{"changed column vessel.id"},
		},
		"a property that a step takes away": {
			of(with(id, "default", "1")),
			of(with(id, "default", "1")),
			of(id), nil,
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			var drift []string
			for _, d := range schema.Compare(schema.Carried(c.known, c.before, c.after), c.after) {
				drift = append(drift, d.String())
			}
			assert.Equal(t, c.drift, drift)
		})
	}
}
