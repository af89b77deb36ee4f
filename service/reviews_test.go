package service_test

import (
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/gate"
	"vorrang/core/review"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// TestFindingsHoldTheGate: from a severity on, what the author did not accept holds, and a
// keeper may waive exactly that.
func TestFindingsHoldTheGate(t *testing.T) {
	const nothing = "release: not-asked, previous-environment: not-asked"
	w := servicetest.Start(t)
	w.Gates(
		map[string]string{
			"development": nothing,
			"staging":     nothing + ", findings: high",
			"production":  nothing + ", findings: low",
		},
	)
	files := map[string]string{
		"1-create-vessel.sql": "CREATE TABLE vessel (id bigint PRIMARY KEY, flag text);\n" +
			"INSERT INTO vessel SELECT n, 'NM' FROM generate_series(1, 20000) AS n",
		"1-create-vessel.back.sql": "DROP TABLE vessel",
	}
	w.Submitted(files)
	w.Promoted("staging")
	w.Promoted("production")
	pgtest.Exec(t, w.URLs["staging"], "ANALYZE vessel")

	files["2-index-flag.sql"] = "CREATE INDEX vessel_by_flag ON vessel (flag)"
	files["2-index-flag.back.sql"] = "DROP INDEX vessel_by_flag"
	w.Submitted(files)
	check := findings(t, w, "staging")
	assert.Equal(t, gate.Hold, check.Verdict)
	assert.Contains(t, check.Evidence, "1 finding of severity high or above: blocks.index-build in 2-index-flag.sql, "+
		"line 1: an index is built while writers wait (vessel has about 20,000 rows, ")
	_, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	assert.ErrorContains(t, err, "blocks.index-build")

	pgtest.Exec(t, w.URLs["production"], "DELETE FROM vessel WHERE id > 5; ANALYZE vessel")
	check = findings(t, w, "production")
	assert.Equal(t, gate.Hold, check.Verdict, "the table is small there, and low holds too")
	assert.Contains(t, check.Evidence, "blocks.index-build")

	files["2-index-flag.sql"] = "/*---\naccept: {blocks.index-build: nobody writes at night}\n---*/\n" +
		files["2-index-flag.sql"]
	w.Submitted(files)
	check = findings(t, w, "staging")
	assert.Equal(t, gate.Pass, check.Verdict, check.Evidence)
	assert.Equal(t, "no finding of severity high or above is open; 0 are lower, 1 accepted by the "+
		"steps' authors", check.Evidence)

	preview, err := w.Preview(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	require.Len(t, preview.Actions, 1)
	require.Len(t, preview.Actions[0].Findings, 1)
	found := preview.Actions[0].Findings[0]
	assert.Equal(t, []any{"nobody writes at night", review.High, 4}, []any{found.Accepted, found.Severity, found.Line})
	w.Promoted("staging")
	assert.Contains(t, findings(t, w, "staging").Evidence, "there is nothing to review")
}

func findings(t *testing.T, w *servicetest.World, environment string) gate.Check {
	answer, err := w.Gate(t.Context(), "harbour", environment, "")
	require.NoError(t, err)
	for _, check := range answer.Checks {
		if check.ID == gate.Findings {
			return check
		}
	}
	t.Fatal("the gate asks no such check")
	return gate.Check{}
}

// TestAReaderCannotAskAboutRows: a count by an expression of one's own tells what rows hold.
func TestAReaderCannotAskAboutRows(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE vessel (id bigint PRIMARY KEY, length_cm int);\n" +
		"INSERT INTO vessel VALUES (1, -1);"})
	w.Promoted("staging")
	folder := fstest.MapFS{
		"1-a.sql": {Data: []byte("CREATE TABLE vessel (id bigint PRIMARY KEY, length_cm int);\n" +
			"INSERT INTO vessel VALUES (1, -1);")},
		"2-b.sql": {Data: []byte("ALTER TABLE vessel ADD CHECK (length_cm > 0);")},
	}
	for grant, asks := range map[string]bool{"reader@harbour": false, "author@harbour": false,
		"releaser@harbour/staging": true, "keeper@harbour": true} {
		who := w.As(strings.NewReplacer("@", "-", "/", "-").Replace(grant), grant)
		answer, err := who.Review(t.Context(), "harbour", "staging", false, folder)
		require.NoError(t, err, grant)
		assert.Equal(t, asks, answer.Rows, grant)
		found := slices.ContainsFunc(answer.Findings, func(f review.Finding) bool { return f.Code == "rows.unmet" })
		assert.Equal(t, asks, found, grant)
	}
}
