package postgres_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/draft"
	"vorrang/core/schema"
	"vorrang/internal/pgtest"
	"vorrang/internal/schematest"
	"vorrang/target/postgres"
	"vorrang/target/postgres/grammar"
)

// detailed reads a schema with what its objects need.
func detailed(t testing.TB, url string) schema.Schema {
	session, err := postgres.Connect(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	s, err := session.SnapshotWithNeeds(t.Context(), nil)
	require.NoError(t, err)
	return s
}

// ground is an empty scratch database.
func ground(t testing.TB, url string) *postgres.Scratch {
	scratch, err := postgres.NewScratch(t.Context(), url, "", true)
	require.NoError(t, err)
	t.Cleanup(scratch.Close)
	return scratch
}

// carry runs drafted texts on a database, as their step's mode says.
func carry(t testing.TB, url string, text string, autocommit bool) {
	statements, err := grammar.Cut([]byte(text))
	require.NoError(t, err)
	conn := pgtest.Connect(t, url)
	run := func(sql string) {
		_, err := conn.Exec(t.Context(), sql)
		require.NoError(t, err, "%s\n\n%s", sql, text)
	}
	if !autocommit {
		run("BEGIN")
	}
	for _, s := range statements {
		if s.IsCopy {
			_, err := conn.PgConn().CopyFrom(t.Context(), bytes.NewReader(s.CopyData), string(s.SQL))
			require.NoError(t, err)
			continue
		}
		run(string(s.SQL))
	}
	if !autocommit {
		run("COMMIT")
	}
}

// proved drafts a wish, which must be proved, and nothing left out.
func proved(t testing.TB, url string, wish draft.Request) *draft.Draft {
	made, err := draft.Make(t.Context(), ground(t, url), wish)
	require.NoError(t, err)
	require.True(t, made.Proved, "%s\n%v %v\n%s", made.Why, made.Undraftable, made.Irreversible, written(made))
	require.Empty(t, made.Undraftable)
	return made
}

func written(made *draft.Draft) string {
	var b strings.Builder
	for _, s := range made.Steps {
		fmt.Fprintf(&b, "-- autocommit %t\n%s-- back\n%s", s.Autocommit, s.Forward, s.Back)
	}
	return b.String()
}

func forward(t testing.TB, url string, made *draft.Draft) {
	for _, s := range made.Steps {
		carry(t, url, s.Forward, s.Autocommit)
	}
}

func back(t testing.TB, url string, made *draft.Draft) {
	for _, s := range slices.Backward(made.Steps) {
		carry(t, url, s.Back, s.Autocommit)
	}
}

// dumped is what pg_dump writes of a schema, line by line, sorted.
func dumped(t testing.TB, url string) []string {
	out, err := exec.Command("/usr/lib/postgresql/15/bin/pg_dump", "--schema-only", "--no-comments", url).Output()
	require.NoError(t, err)
	var lines []string
	for line := range strings.Lines(string(out)) {
		if line = strings.TrimRight(line, ",\n"); strings.HasPrefix(line, "CREATE STATISTICS") {
			line = schema.StatisticsInOrder(strings.TrimSuffix(line, ";"))
		}
		if line != "" && !strings.HasPrefix(line, "--") && !strings.HasPrefix(line, `\restrict`) &&
			!strings.HasPrefix(line, `\unrestrict`) &&
			!strings.HasPrefix(line, "SET default_t") {
			lines = append(lines, line)
		}
	}
	slices.Sort(lines)
	return lines
}

// same fails where two databases differ, for us or for pg_dump.
func same(t testing.TB, want, got string, about ...any) {
	for _, d := range schema.Compare(snapshot(t, want), snapshot(t, got)) {
		assert.Fail(t, d.String(), "%v\n%v", d.Props, about)
	}
	if one, other := dumped(t, want), dumped(t, got); !slices.Equal(one, other) {
		assert.Equal(t, missing(one, other), missing(other, one), about...)
	}
}

func missing(from, in []string) []string {
	return slices.DeleteFunc(slices.Clone(from), func(line string) bool { return slices.Contains(in, line) })
}

func TestADraftRebuildsWhatItWasMadeFrom(t *testing.T) {
	original, copied, empty := pgtest.Database(t), pgtest.Database(t), pgtest.Database(t)
	pgtest.Exec(t, original, first+strings.Join(apart, ";"))
	made := proved(t, original, draft.Request{Writer: postgres.Engine{}, Desired: detailed(t, original), Owners: true})
	forward(t, copied, made)
	same(t, original, copied, written(made))
	back(t, copied, made)
	same(t, empty, copied, written(made))
}

var keepExamples = flag.Bool(
	"update-drafts", false,
	"write the schemas that target/postgres/drafting is tested with, without a server",
)

// TestTheExamplesOfDrafts reads some schemas from the server, as the tests of drafting
// have them, and keeps them if asked to.
func TestTheExamplesOfDrafts(t *testing.T) {
	one, other := schematest.Pair(3)
	for name, scripts := range map[string][2]string{"first": {"", first + strings.Join(apart, ";")},
		"pair": {one, other}, "odd": {one, schematest.Odd}} {
		var example [2]schema.Schema
		for i, script := range scripts {
			url := pgtest.Database(t)
			pgtest.Exec(t, url, script)
			example[i] = detailed(t, url)
		}
		file := filepath.Join("drafting", "testdata", name+".json")
		text, err := json.MarshalIndent(example, "", " ")
		require.NoError(t, err)
		if *keepExamples {
			require.NoError(t, os.WriteFile(file, append(text, '\n'), 0o644))
		}
		var kept [2]schema.Schema
		was, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(was, &kept))
		for i := range example {
			assert.Equal(
				t, example[i].Text(), kept[i].Text(),
				"%s is not what the server gives: -update-drafts keeps it",
				file,
			)
		}
	}
}

var pairs = flag.Int("pairs", 50, "random pairs of schemas to draft differences of")

// witnessed is how many pairs pg_dump is asked about too: it takes longer than
// all the rest.
const witnessed = 12

// Random pairs: one is drafted into the other and back, as we see it and, for
// some, as pg_dump does.
func TestRandomPairsAreDraftedThereAndBack(t *testing.T) {
	for i := range *pairs {
		if !t.Run(strconv.Itoa(i), func(t *testing.T) { pair(t, uint64(i)) }) {
			break
		}
	}
}

func pair(t *testing.T, seed uint64) {
	one, other := schematest.Pair(seed)
	a, b := pgtest.Database(t), pgtest.Database(t)
	pgtest.Exec(t, a, one)
	pgtest.Exec(t, b, other)
	is := detailed(t, a)
	made := proved(t, a, draft.Request{Writer: postgres.Engine{}, Present: &is, Desired: detailed(t, b), Settled: true})
	if seed >= witnessed {
		return
	}
	original := pgtest.Database(t)
	pgtest.Exec(t, original, one)
	forward(t, a, made)
	same(t, b, a, written(made))
	back(t, a, made)
	same(t, original, a, written(made))
}

func TestADraftRebuildsOddSchemas(t *testing.T) {
	original, copied, empty := pgtest.Database(t), pgtest.Database(t), pgtest.Database(t)
	pgtest.Exec(t, original, schematest.Odd)
	should := detailed(t, original)
	assert.Empty(t, should.Uncovered)
	made := proved(t, original, draft.Request{Writer: postgres.Engine{}, Desired: should, Owners: true})
	forward(t, copied, made)
	same(t, original, copied, written(made))
	back(t, copied, made)
	same(t, empty, copied, written(made))
}

// Two schemas of the same place that have next to nothing in common.
func TestADraftTurnsOneOddSchemaIntoAnother(t *testing.T) {
	a, b, original := pgtest.Database(t), pgtest.Database(t), pgtest.Database(t)
	for _, url := range []string{a, original} {
		pgtest.Exec(t, url, first+strings.Join(apart, ";"))
	}
	pgtest.Exec(t, b, schematest.Odd)
	is := detailed(t, a)
	made := proved(
		t, a,
		draft.Request{Writer: postgres.Engine{}, Present: &is, Desired: detailed(t, b), Settled: true, Owners: true},
	)
	forward(t, a, made)
	same(t, b, a, written(made))
	back(t, a, made)
	same(t, original, a, written(made))
}

func TestATableAndItsColumnAreRenamed(t *testing.T) {
	a, b, original := pgtest.Database(t), pgtest.Database(t), pgtest.Database(t)
	for _, url := range []string{a, original} {
		pgtest.Exec(
			t,
			url,
			`CREATE TABLE public.vessel (id int PRIMARY KEY, name text CHECK (name <> '')); CREATE VIEW public.named AS
				SELECT name FROM public.vessel; CREATE INDEX on_name ON public.vessel (lower(name)); INSERT INTO public.vessel
				VALUES (1, 'Petrel')`,
		)
	}
	pgtest.Exec(
		t,
		b,
		`CREATE TABLE public.ship (id int CONSTRAINT vessel_pkey PRIMARY KEY,
			"The Title" text CONSTRAINT vessel_name_check CHECK ("The Title" <> '')); CREATE VIEW public.named AS
			SELECT "The Title" AS name FROM public.ship; CREATE INDEX on_name ON public.ship (lower("The Title"))`,
	)
	is := detailed(t, a)
	made := proved(
		t, a,
		draft.Request{
			Writer:  postgres.Engine{},
			Present: &is,
			Desired: detailed(t, b),
			Renames: []draft.Rename{
				{Old: "public.vessel", New: "public.ship"},
				{Old: "public.vessel.name", New: `"The Title"`},
			},
		},
	)
	assert.Empty(t, made.Losses)
	forward(t, a, made)
	same(t, b, a, written(made))
	assert.Equal(t, "Petrel", pgtest.Query(t, a, `SELECT "The Title" FROM public.ship`))
	back(t, a, made)
	same(t, original, a, written(made))
}
