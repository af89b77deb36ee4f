package rehearsal

import (
	"regexp"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/schema"
)

func TestMaskedValuesHaveTheFormOfTheRealOnes(t *testing.T) {
	m := NewMask()
	for _, c := range []struct{ dataType, value, form string }{
		{"text", "Pilot-Station 7, Nordmole", `^[A-Z][a-z]{4}-[A-Z][a-z]{6} [0-9], [A-Z][a-z]{7}$`},
		{"character varying(40)", "käpt'n@hafen.example", `^[a-z]{4}'[a-z]@[a-z]{5}\.[a-z]{7}$`},
		{"text", "", `^$`},
		{"integer", "407", `^[1-9][0-9]{2}$`},
		{"integer", "-2147483648", `^-1[0-9]{9}$`},
		{"smallint", "32767", `^1[0-9]{4}$`},
		{"bigint", "9223372036854775807", `^1[0-9]{18}$`},
		{"numeric(8,2)", "-120.50", `^-[1-9][0-9]{2}\.[0-9]{2}$`},
		{"date", "2026-02-29", `^2026-(0[1-9]|1[0-2])-([01][0-9]|2[0-8])$`},
		{"timestamp with time zone", "2026-12-31 23:59:59.5+00", `^2026-\d\d-\d\d 23:59:59\.5\+00$`},
		{"date", "infinity", `^infinity$`},
		{"uuid", "9F1C6E0A-0000-4000-8000-000000000000", `^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$`},
	} {
		made := m.Value(c.dataType, c.value)
		assert.Regexp(t, regexp.MustCompile(c.form), made, "%s %s", c.dataType, c.value)
		assert.Equal(t, made, m.Value(c.dataType, c.value), "equal values stay equal")
	}
	_, err := time.Parse(time.DateOnly, m.Value("date", "2024-02-29"))
	require.NoError(t, err)
	assert.NotEqual(
		t,
		NewMask().Value("text", "Nordmole Nordmole"),
		m.Value("text", "Nordmole Nordmole"),
		"by its own key",
	)
	assert.NotEqual(t, "Nordmole Nordmole", m.Value("text", "Nordmole Nordmole"))
}

func TestDifferentValuesStayDifferent(t *testing.T) {
	m := NewMask()
	for dataType, pattern := range map[string]string{"text": "B0", "integer": "10", "uuid": "00"} {
		made := map[string]string{}
		for _, a := range "123456789" {
			for _, b := range "0123456789" {
				value := string(a) + pattern + string(b)
				masked := m.Value(dataType, value)
				assert.NotContains(t, made, masked, "%s: %s and %s", dataType, value, made[masked])
				made[masked] = value
			}
		}
	}
}

func TestWhatIsNotMaskedIsSaid(t *testing.T) {
	assert.True(t, Masks("character varying(20)"))
	for _, dataType := range []string{"jsonb", "boolean", "harbour.berth_state", "bytea"} {
		assert.False(t, Masks(dataType), dataType)
	}
}

func TestWhatIsNamedIsMaskedWhereItsRowsStand(t *testing.T) {
	table := func(name, parent string, columns ...string) (list []schema.Object) {
		list = []schema.Object{{Kind: schema.Table, Name: name, Props: schema.Props{schema.Inherits: parent}}}
		for _, column := range columns {
			list = append(list, schema.Object{
				Kind: schema.Column, Name: name + "." + column, Of: name, Props: schema.Props{schema.DataType: "text"},
			})
		}
		return list
	}
	of := schema.New(slices.Concat(
		table("harbour.watch", "", "who", "at"), table("harbour.watch_old", "harbour.watch", "at", "who"),
		table("harbour.watch_oldest", "harbour.watch_old", "who", "at"), table("harbour.other", "", "who"),
	), nil)
	other := slices.IndexFunc(of.Objects, func(o schema.Object) bool { return o.Name == "harbour.other.who" })
	of.Objects[other].Props[schema.DataType] = "jsonb"
	masked, err := MaskedColumns("staging", of, []string{"harbour.watch.who"})
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{"harbour.watch.who": true, "harbour.watch_old.who": true,
		"harbour.watch_oldest.who": true}, masked)
	_, err = MaskedColumns("staging", of, []string{"harbour.watch.nobody"})
	require.EqualError(t, err, "the column harbour.watch.nobody is to be masked, and staging has none of this name")
	_, err = MaskedColumns("staging", of, []string{"harbour.watch.who", "harbour.other.who"})
	require.ErrorContains(t, err, "there are no made-up values of its type, jsonb")
}
