package postgres_test

import (
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/schema"
	"vorrang/internal/pgtest"
	"vorrang/target/postgres"
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

// carry runs a script as its parts say.
func carry(t testing.TB, url string, script schema.Script) {
	conn := pgtest.Connect(t, url)
	for _, part := range script.Parts {
		run := func(sql string) {
			_, err := conn.Exec(t.Context(), sql)
			require.NoError(t, err, "%s\n\n%s", sql, written(script))
		}
		if !part.Autocommit {
			run("BEGIN")
		}
		for _, statement := range part.Statements {
			run(statement.SQL)
		}
		if !part.Autocommit {
			run("COMMIT")
		}
	}
}

func written(script schema.Script) string {
	var b strings.Builder
	for _, part := range script.Parts {
		if part.Autocommit {
			b.WriteString("-- autocommit\n")
		}
		for _, s := range part.Statements {
			b.WriteString(s.SQL + ";\n")
		}
	}
	return b.String()
}

// dumped is what pg_dump writes of a schema, line by line, sorted.
func dumped(t testing.TB, url string) []string {
	out, err := exec.Command("/usr/lib/postgresql/15/bin/pg_dump", "--schema-only", "--no-comments", url).Output()
	require.NoError(t, err)
	var lines []string
	for line := range strings.Lines(string(out)) {
		line = strings.TrimRight(line, ",\n")
		if line != "" && !strings.HasPrefix(line, "--") && !strings.HasPrefix(line, `\restrict`) && !strings.HasPrefix(line, `\unrestrict`) && !strings.HasPrefix(line, "SET default_t") {
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
	is, should := detailed(t, copied), detailed(t, original)
	forward := schema.Draft(is, should, schema.Style{Owners: true})
	assert.Empty(t, forward.Undrafted)
	carry(t, copied, forward)
	same(t, original, copied, written(forward))
	back := schema.Draft(detailed(t, copied), is, schema.Style{Owners: true})
	carry(t, copied, back)
	same(t, empty, copied, written(back))
}
