package chart

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/schema"
	"vorrang/internal/pgtest"
	_ "vorrang/internal/programtest"
	"vorrang/internal/subprocess"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// many is a schema of so many tables, each of which refers to an earlier one.
func many(tables int) schema.Schema {
	random := rand.New(rand.NewPCG(1, 2))
	var objects []schema.Object
	for i := range tables {
		table := fmt.Sprintf("harbour.berth_%d", i)
		objects = append(
			objects,
			schema.Object{Kind: schema.Table, Name: table},
			schema.Object{
				Kind:  schema.Constraint,
				Name:  table + ".pkey",
				Of:    table,
				Props: schema.Props{schema.Definition: "PRIMARY KEY (id)"},
			},
		)
		for c, name := range []string{"id", "next", "remark"} {
			objects = append(
				objects,
				schema.Object{
					Kind:  schema.Column,
					Name:  table + "." + name,
					Of:    table,
					Place: c + 1,
					Props: schema.Props{schema.DataType: "bigint"},
				},
			)
		}
		if i > 0 {
			to := random.IntN(i)
			objects = append(objects, schema.Object{Kind: schema.Constraint, Name: table + ".link", Of: table,
				Props: schema.Props{
					schema.Definition: fmt.Sprintf("FOREIGN KEY (next) REFERENCES harbour.berth_%d(id)", to),
				}})
		}
	}
	return schema.New(objects, nil)
}

func TestHundredsOfTablesAreLaidOut(t *testing.T) {
	m, err := Draw(t.Context(), many(300), nil, schema.Schema{})
	require.NoError(t, err)
	require.Len(t, m.Tables, 300)
	require.Len(t, m.Links, 299)
	for _, l := range m.Links {
		assert.True(t, strings.HasPrefix(l.Path, "M") && strings.Contains(l.Path, " C"), l.Name)
	}
	for i, one := range m.Tables {
		if one.Name != "harbour.berth_0" {
			assert.Equal(t, 1, one.More, "only keys are drawn of so many")
		}
		const close = 8.0 // pixels; the layout is given with five digits
		assert.True(
			t,
			one.X >= -close && one.Y >= -close && one.X+one.Width <= m.Width+close &&
				one.Y+one.Height <= m.Height+close,
			one.Name,
		)
		for _, other := range m.Tables[i+1:] {
			apart := one.X+one.Width <= other.X || other.X+other.Width <= one.X || one.Y+one.Height <= other.Y ||
				other.Y+other.Height <= one.Y
			assert.True(t, apart, "%s lies on %s", one.Name, other.Name)
		}
	}
}

// Whoever submits steps sets how many tables there are; they must not be able
// to hold the service with them.
func TestThousandsOfTablesAreLaidOutInAGrid(t *testing.T) {
	crowd := many(2000)
	for i := range 1600 { // which Graphviz would take minutes and gigabytes for
		from, to := fmt.Sprintf("harbour.berth_%d", i*7%2000), fmt.Sprintf("harbour.berth_%d", i*13%2000)
		crowd.Objects = append(
			crowd.Objects,
			schema.Object{Kind: schema.Constraint, Name: fmt.Sprintf("%s.link_%d", from, i), Of: from,
				Props: schema.Props{schema.Definition: fmt.Sprintf("FOREIGN KEY (next) REFERENCES %s(id)", to)}},
		)
	}
	m, err := Draw(t.Context(), crowd, nil, schema.Schema{})
	require.NoError(t, err)
	require.Len(t, m.Tables, 2000)
	require.Len(t, m.Links, 1999+1600)
	for _, l := range m.Links {
		require.Regexp(t, `^M-?[\d.]+ -?[\d.]+ C`, l.Path)
	}
	assert.InDelta(t, 1, m.Width/m.Height, 0.5, "about as high as wide")
	for i, one := range m.Tables {
		require.True(
			t, one.X >= 0 && one.Y >= 0 && one.X+one.Width <= m.Width && one.Y+one.Height <= m.Height, one.Name,
		)
		for _, other := range m.Tables[i+1:] {
			apart := one.X+one.Width <= other.X || other.X+other.Width <= one.X || one.Y+one.Height <= other.Y ||
				other.Y+other.Height <= one.Y
			require.True(t, apart, "%s lies on %s", one.Name, other.Name)
		}
	}
}

// TestALayoutThatTakesTooLong is drawn in the plain grid, and one that nobody
// waits for is not drawn.
func TestALayoutThatTakesTooLong(t *testing.T) {
	crowd := many(140)
	random := rand.New(rand.NewPCG(3, 4))
	for i := range 70 {
		from, to := fmt.Sprintf("harbour.berth_%d", random.IntN(140)), fmt.Sprintf("harbour.berth_%d", random.IntN(140))
		crowd.Objects = append(
			crowd.Objects,
			schema.Object{Kind: schema.Constraint, Name: fmt.Sprintf("%s.link_%d", from, i), Of: from,
				Props: schema.Props{schema.Definition: fmt.Sprintf("FOREIGN KEY (next) REFERENCES %s(id)", to)}},
		)
	}
	kept := layouts
	defer func() { layouts = kept }()
	layouts = subprocess.Beside(Program, Work, subprocess.Limits{Processes: 1, Time: time.Millisecond, Memory: 1 << 30})
	m, err := Draw(t.Context(), crowd, nil, schema.Schema{})
	require.NoError(t, err)
	for _, l := range m.Links {
		require.Regexp(t, `^M-?[\d.]+ -?[\d.]+ C`, l.Path, "the plain grid is drawn")
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Draw(ctx, crowd, nil, schema.Schema{})
	require.ErrorIs(t, err, context.Canceled, "nobody waits any more")
}

// TestWithoutItsProgramAPlainGridIsDrawn, as where only vorrangd was copied.
func TestWithoutItsProgramAPlainGridIsDrawn(t *testing.T) {
	find, kept := subprocess.Find, layouts
	defer func() { subprocess.Find, layouts = find, kept }()
	subprocess.Find = func(string) (string, error) { return "", subprocess.ErrAbsent }
	layouts = subprocess.Beside(Program, Work, Limits)
	m, err := Draw(t.Context(), many(5), nil, schema.Schema{})
	require.NoError(t, err)
	assert.Len(t, m.Tables, 5)
}

// FuzzLayout gives every graph of a few tables, loops and doubled links too.
func FuzzLayout(f *testing.F) {
	f.Add([]byte{0, 1, 1, 0, 2, 2})
	f.Add([]byte("\x00\x00\x00\x01\x00\x01"))
	f.Fuzz(func(t *testing.T, links []byte) {
		const tables = 12
		objects := many(tables).Objects
		for i := 0; i+1 < len(links) && i < 60; i += 2 {
			from, to := fmt.Sprintf("harbour.berth_%d", links[i]%tables), fmt.Sprintf(
				"harbour.berth_%d", links[i+1]%tables,
			)
			objects = append(
				objects,
				schema.Object{Kind: schema.Constraint, Name: fmt.Sprintf("%s.link_%d", from, i), Of: from,
					Props: schema.Props{schema.Definition: fmt.Sprintf("FOREIGN KEY (next) REFERENCES %s(id)", to)}},
			)
		}
		m, err := Draw(t.Context(), schema.New(objects, nil), nil, schema.Schema{})
		require.NoError(t, err)
		for _, l := range m.Links {
			require.NotEmpty(t, l.Path, l.Name)
		}
	})
}

func TestADifferenceIsMarkedInWords(t *testing.T) {
	before := many(3)
	after := schema.New(
		append(
			many(2).Objects,
			schema.Object{
				Kind:  schema.Column,
				Name:  `harbour.berth_0."<b>"`,
				Of:    "harbour.berth_0",
				Place: 4,
				Props: schema.Props{schema.DataType: "text"},
			},
		),
		nil,
	)
	m, err := Draw(t.Context(), after, schema.Effect(before, after), before)
	require.NoError(t, err)
	what := map[string]schema.What{}
	for _, table := range m.Tables {
		what[table.Name] = table.What
	}
	assert.Equal(
		t,
		map[string]schema.What{
			"harbour.berth_0": schema.Changed,
			"harbour.berth_1": "",
			"harbour.berth_2": schema.Removed,
		},
		what,
		"what is gone is drawn too",
	)
	svg := SVG(m, "harbour & co")
	for _, words := range []string{">changed<", ">removed<", "&lt;b&gt;&#34; added", "harbour &amp; co", "id ◆",
		"next ◇"} {
		assert.Contains(t, svg, words)
	}
	for parser := xml.NewDecoder(strings.NewReader(svg)); ; {
		if _, err := parser.Token(); err != nil {
			assert.True(t, errors.Is(err, io.EOF), err)
			break
		}
	}
	empty, err := Draw(t.Context(), schema.Schema{}, nil, schema.Schema{})
	require.NoError(t, err)
	assert.Contains(t, SVG(empty, "nothing"), "<svg")
}

// TestALinkLeadsToItsTable, however an engine writes a foreign key.
func TestALinkLeadsToItsTable(t *testing.T) {
	for definition, want := range map[string]string{
		`FOREIGN KEY (berth_id) REFERENCES harbour.berth(id) ON DELETE CASCADE`: "harbour.berth", "FOREIGN KEY (berth_id) " +
			"REFERENCES berth (id)": "berth",
		"FOREIGN KEY (berth_id) REFERENCES `the berth` (id)": "`the berth`",
		`FOREIGN KEY (x) REFERENCES "a (b)"(c)`:              `"a (b)"`, "FOREIGN KEY (x) REFERENCES berth": "berth",
		"FOREIGN KEY (x) REFERENCES \"a`\"(b) ON DELETE CASCADE": "\"a`\"",
		"CHECK (x > 0)": "",
	} {
		assert.Equal(
			t, want,
			target(schema.Object{Kind: schema.Constraint, Props: schema.Props{schema.Definition: definition}}),
			definition,
		)
	}
}
