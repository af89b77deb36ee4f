package tests

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/review"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/target/mariadb"
	"vorrang/target/postgres"
	"vorrang/target/sqlite"
)

var updateFindings = flag.Bool("update-findings", false, "write docs/findings.md again")

// TestTheFindingsAreDocumented holds docs/findings.md against the rules.
func TestTheFindingsAreDocumented(t *testing.T) {
	var page bytes.Buffer
	page.WriteString(`# Findings

What a review (` + "`vorrang review`" + `, the preview, the gate's ` + "`findings`" + `) can find, engine by engine. This page is written from the
rules by a test, which runs every example on a real server: the first script does what is said of it, the second does not.
The examples run on the tables that stand first. A step accepts a finding in its options, with a reason:

` + "```sql\n/*---\naccept: {blocks.index-build: the table has ten rows}\n---*/\n```" + `

High breaks an application that is running, or stops others for as long as a table is large; medium does so under conditions that
are named; low is what somebody will stumble over later. Where a review is against an environment, what depends on the size of
a table is low below ` + fmt.Sprint(review.Small) + ` rows. In a step of phase contract, what goes away is medium, unless the server counted uses of it since the expand.
`)
	for _, e := range []engine.Engine{postgres.Engine{}, mariadb.Engine{}, sqlite.Engine{}} {
		rules := e.Dialect().Findings()
		fmt.Fprintf(&page, "\n## %s: %d findings\n\n", e.Traits().Server, len(rules.All()))
		fmt.Fprintf(&page, "```sql\n%s\n```\n", strings.TrimSpace(rules.Setup))
		for _, rule := range rules.All() {
			fmt.Fprintf(
				&page,
				"\n### %s\n\n**%s.** Severity: %s. %s\n\n%s\n",
				rule.Code,
				strings.ToUpper(rule.Title[:1])+rule.Title[1:],
				rule.Severity,
				rule.Why,
				rule.Server,
			)
			if rule.Target {
				page.WriteString("\nIt is found only against an environment.\n")
			}
			if rule.Measured {
				page.WriteString("\nIt is found only where the plan was rehearsed.\n")
			}
			for _, part := range []struct{ head, text string }{
				{"On", rule.Setup}, {"This has it", rule.Has}, {"with the way back", rule.Back}, {"This has it not", rule.HasNot},
				{"with the way back", rule.BackNot},
			} {
				if part.text != "" {
					fmt.Fprintf(&page, "\n%s:\n\n```sql\n%s\n```\n", part.head, strings.TrimSpace(part.text))
				}
			}
		}
	}
	file := filepath.Join(pgtest.Root(), "docs", "findings.md")
	if *updateFindings {
		require.NoError(t, os.WriteFile(file, page.Bytes(), 0o644))
	}
	written, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, page.String(), string(written), "go test ./tests -run FindingsAreDocumented "+
		"-update-findings writes it")
}

// TestFindingsAreEnoughAndHaveOneName: a code means the same on each engine.
func TestFindingsAreEnoughAndHaveOneName(t *testing.T) {
	least := map[string]int{"postgresql": 40, "mariadb": 20, "sqlite": 10}
	for _, e := range []engine.Engine{postgres.Engine{}, mariadb.Engine{}, sqlite.Engine{}} {
		rules := e.Dialect().Findings()
		assert.GreaterOrEqual(t, len(rules.All()), least[e.Name()])
		codes := rules.Codes()
		assert.Len(t, slices.Compact(codes), len(rules.All()), "no code stands twice")
		for _, code := range codes {
			class, _, divided := strings.Cut(code, ".")
			assert.True(t, divided && class != "", code)
		}
	}
}

// TestAReviewSaysWhatAReviewerShouldKnow plays a review through the client: by the text
// alone, against a target, accepted, and for pipelines.
func TestAReviewSaysWhatAReviewerShouldKnow(t *testing.T) {
	w := servicetest.Start(t)
	folder := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, "steps", name), []byte(text), 0o644))
	}
	require.NoError(t, os.Mkdir(filepath.Join(folder, "steps"), 0o755))
	run := func(args ...string) (string, int) {
		c := command(t, w.Server, servicetest.Token, folder, append([]string{"vorrang"}, args...)...)
		output, err := c.CombinedOutput()
		code := 0
		if err != nil {
			code = c.ProcessState.ExitCode()
		}
		return string(output), code
	}
	write("1-create-vessel.sql", "CREATE TABLE vessel (id bigint PRIMARY KEY, flag text);\n"+
		"INSERT INTO vessel SELECT n, 'NM' FROM generate_series(1, 20000) AS n;\n")
	write("1-create-vessel.back.sql", "DROP TABLE vessel;\n")
	output, code := run("review")
	assert.Equal(t, 0, code, output)
	assert.Contains(t, output, "harbour: 1 step reviewed by their text alone: no findings")

	w.Submitted(map[string]string{
		"1-create-vessel.sql": "CREATE TABLE vessel (id bigint PRIMARY KEY, flag text);\n" +
			"INSERT INTO vessel SELECT n, 'NM' FROM generate_series(1, 20000) AS n;\n",
		"1-create-vessel.back.sql": "DROP TABLE vessel;\n",
	})
	w.Promoted("development")
	pgtest.Exec(t, w.URLs["development"], "ANALYZE vessel")
	output, code = run("review")
	assert.Equal(t, 0, code, output)
	assert.Contains(t, output, "none of the 1 step in the folder is new or edited; -all reviews them")

	write("2-index-flag.sql", "CREATE INDEX vessel_by_flag ON vessel (flag);\n")
	write("2-index-flag.back.sql", "DROP INDEX vessel_by_flag;\n")
	output, code = run("review", "-sarif", "f.sarif", "-junit", "f.xml")
	assert.Equal(t, 3, code, output)
	assert.Contains(t, output, "steps/2-index-flag.sql:1:14  high  blocks.index-build\n")
	assert.Contains(t, output, "CREATE INDEX CONCURRENTLY vessel_by_flag ON vessel USING btree (flag);")
	assert.Contains(t, output, "1 step reviewed by their text alone: 1 finding: 1 high")
	var log struct {
		Runs []struct {
			Results []struct {
				RuleID string `json:"ruleId"`
				Level  string
			}
		}
	}
	text, err := os.ReadFile(filepath.Join(folder, "f.sarif"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &log))
	assert.Equal(t, "blocks.index-build", log.Runs[0].Results[0].RuleID)
	assert.Equal(t, "error", log.Runs[0].Results[0].Level)
	text, err = os.ReadFile(filepath.Join(folder, "f.xml"))
	require.NoError(t, err)
	assert.Contains(
		t,
		string(text),
		`<testcase classname="harbour/review" name="blocks.index-build 2-index-flag.sql:1:14">`,
	)
	assert.Contains(t, string(text), `failures="1"`)

	output, code = run("review", "-env", "development")
	assert.Equal(t, 3, code, output)
	assert.Contains(t, output, "(vessel has about 20,000 rows, ")
	output, code = run("review", "-env", "staging")
	assert.Equal(t, 0, code, "in staging the table is new: %s", output)

	write("2-index-flag.sql", "/*---\naccept:\n  blocks.index-build: nobody writes at night\n"+
		"  blocks.reindex: no longer there\n---*/\nCREATE INDEX vessel_by_flag ON vessel (flag);\n")
	output, code = run("review")
	assert.Equal(t, 0, code, output)
	assert.Contains(t, output, "accepted in the step: nobody writes at night")
	assert.Contains(t, output, "the step has no finding blocks.reindex; take it out")

	write("3-bad.sql", "SELECT 'x\n")
	output, code = run("review")
	assert.Equal(t, 1, code, "what could not run is refused as at submit: %s", output)
	assert.Contains(t, output, "3-bad.sql:1:8: ")
	write("3-bad.sql", "CREATE TABL x;\n")
	output, _ = run("review")
	assert.Contains(t, output, "3-bad.sql:1:8: syntax error", "what cannot be read is noted")

	output, code = run("review", "blocks.index-build")
	assert.Equal(t, 0, code)
	assert.Contains(t, output, "This has it:\n    CREATE INDEX vessel_by_flag ON vessel (flag);")
	output, code = run("review", "blocks.nothing")
	assert.Equal(t, 2, code)
	assert.Contains(t, output, `there is no finding "blocks.nothing"; there are:`)
	output, code = run("review", "-least", "grave")
	assert.Equal(t, 2, code)
	assert.Contains(t, output, "-least is high, medium or low")
	_, err = w.Findings(t.Context(), "sqlite")
	require.NoError(t, err)
	_, err = w.Findings(t.Context(), "stones")
	assert.ErrorContains(t, err, `this service has no engine "stones"`)
}
