package service_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/verify"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

const binaries = "/usr/lib/postgresql/15/bin/"

// psql runs a file as a DBA would.
func psql(t *testing.T, url, text string) (string, error) {
	file := filepath.Join(t.TempDir(), "deploy.sql")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	output, err := exec.CommandContext(t.Context(), binaries+"psql", "-X", "-q", "-v", "file="+file, "-f", file, url).
		CombinedOutput()
	return string(output), err
}

// gone waits until the server has seen that psql is gone, and with it its lock.
func gone(t *testing.T, url string) {
	require.Eventually(t, func() bool {
		return pgtest.Query(
			t, url,
			"SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND database = (SELECT oid FROM pg_database WHERE "+
				"datname = current_database())",
		) == "0"
	}, 10*time.Second, 10*time.Millisecond)
}

// unheld is a file without what holds it against its digest: each statement is still held
// against its own.
func unheld(t *testing.T, file string) string {
	before, rest, found := strings.Cut(file, "\\if :{?file}\n")
	_, after, also := strings.Cut(rest, "\n-- What stands from here on")
	require.True(t, found && also)
	return before + "-- What stands from here on" + after
}

// TestAFileThatIsNamedIsReadAsAWhole: rows that were edited and statements that were added
// are noticed before anything runs, and a file has to be named.
func TestAFileThatIsNamedIsReadAsAWhole(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"1-create-berth.sql": "CREATE TABLE berth (name text);\nCOPY berth FROM stdin;\nNorth quay\n\\.\n",
		},
	)
	file := must(w.Standalone(t.Context(), "harbour", "production", client.Promotion{})).Standalone
	run := func(text string, args ...string) (string, error) {
		name := filepath.Join(t.TempDir(), "deploy it's.sql")
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
		if len(args) == 0 {
			args = []string{"-v", "file=" + name}
		}
		output, err := exec.CommandContext(t.Context(), binaries+"psql",
			append(args, "-X", "-q", "-f", name, w.URLs["production"])...).
			CombinedOutput()
		return string(output), err
	}
	there := func() string {
		return pgtest.Query(
			t,
			w.URLs["production"],
			"SELECT concat(to_regclass('vorrang.ledger'), to_regclass('public.berth'), (SELECT count(*) FROM "+
				"pg_largeobject_metadata))",
		)
	}
	for what, edited := range map[string]string{
		"an edited row":      strings.Replace(file, "North quay", "South quay", 1),
		"an added statement": strings.Replace(file, "\n\\.\n", "\n\\.\nCREATE TABLE extra (id int);\n", 1),
		"an added line":      file + "CREATE TABLE extra (id int);\n",
	} {
		require.NotEqual(t, file, edited)
		output, err := run(edited)
		require.Error(t, err, what)
		assert.Contains(t, output, "this file was edited: it is not as it was made", what)
		assert.Equal(t, "0", there(), what)
	}
	output, err := run(file, "-q")
	require.Error(t, err)
	assert.Contains(t, output, "say which file it is")
	assert.Contains(t, output, "psql -X -v file=THIS-FILE -f THIS-FILE TARGET")
	assert.Equal(t, "0", there())
	output, err = run(file)
	require.NoError(t, err, output)
	assert.Equal(t, "North quay", pgtest.Query(t, w.URLs["production"], "SELECT name FROM berth"))
	assert.Equal(t, "ledgerberth0", there(), "nothing of the reading is left")
}

// told is what a ledger says, but for who, when and for how long.
func told(t *testing.T, w *servicetest.World, environment string) []string {
	history := must(w.Ledger(t.Context(), "harbour", environment, 0))
	require.Empty(t, history.Chain)
	var lines []string
	for _, e := range history.Entries {
		assert.NotEmpty(t, e.Deployment)
		assert.NotEmpty(t, e.Actor)
		var detail ledger.Detail
		require.NoError(t, json.Unmarshal(e.Detail, &detail))
		if e.Seq == 1 {
			assert.Equal(
				t,
				"harbour/"+environment,
				detail.Belongs.String(),
				"the first entry says whose target this is",
			)
			detail.Belongs = nil
		}
		lines = append(
			lines,
			strings.Join(
				[]string{string(e.Action), string(e.Step), e.Slug, string(e.Checksum), string(detail.JSON())},
				" ",
			),
		)
	}
	slices.Reverse(lines)
	return lines
}

var manyKinds = map[string]string{
	"1-create-vessel.sql": "CREATE TABLE vessel (id int PRIMARY KEY, name text, \"call sign\" text);\n" +
		"COPY vessel FROM stdin;\n1\tTern\tA\\tB\n2\tSkua\t\\N\n\\.\nCOMMENT ON TABLE vessel IS 'it''s :here; -- still'",
	"1-create-vessel.back.sql":  "DROP TABLE vessel",
	"1-create-vessel.check.sql": "SELECT count(*) = 2, true FROM vessel; SELECT $$x$$ = 'x', 1 = 1 -- the end",
	"2-index.sql": "/*---\nmode: autocommit\n---*/\nCREATE INDEX CONCURRENTLY vessel_name ON vessel " +
		"(name);\nBEGIN;\nINSERT INTO vessel VALUES (3, 'Auk');\nINSERT INTO vessel VALUES (4, 'Ruff');\nCOMMIT;\n" +
		"VACUUM vessel;",
	"2-index.back.sql": "DROP INDEX CONCURRENTLY vessel_name;\nDELETE FROM vessel WHERE id > 2;",
	"3-backfill.sql": "/*---\nmode: batches\nbatch-size: 2\npause: 0s\n---*/\n" +
		"UPDATE vessel SET name = upper(name) WHERE id IN (SELECT id FROM vessel WHERE name <> upper(name) LIMIT :batch)",
	"3-backfill.check.sql": "SELECT bool_and(name = upper(name)) FROM vessel",
	"3-backfill.back.sql":  "UPDATE vessel SET name = initcap(name)",
	"4-function.sql": "CREATE FUNCTION greet(text) RETURNS text LANGUAGE sql AS $$ SELECT 'Ahoy, ' || $1; $$; -- " +
		"no semicolon follows",
	"4-function.back.sql": "DROP FUNCTION greet",
}

// What psql would read otherwise than the server does is read by the server only:
// no text of a step reaches psql's own commands or variables.
func TestAFileForPsqlRunsNothingButTheSteps(t *testing.T) {
	w := servicetest.Start(t)
	theft := filepath.Join(t.TempDir(), "theft")
	shell := "\\! touch " + theft + "\n"
	w.Submitted(map[string]string{
		"1-escape.sql": "CREATE TABLE said (by text, what text);\n" +
			"INSERT INTO said VALUES ('E''', E'it\\'s\n" + shell + "');",
		"2-standard.sql": "DO $$ BEGIN EXECUTE 'SET standard_conforming_strings = ' || 'off'; END $$;\n" +
			"INSERT INTO said VALUES ('off', 'it''s\n" + shell + "');",
		"3-variable.sql": "CREATE TABLE slice (a int[]);\nINSERT INTO slice VALUES ((ARRAY[1,2,3,4])[2:3]);\n" +
			"INSERT INTO said VALUES (':HOST', ':USER');",
		"4-quotes.sql":  "INSERT INTO said VALUES ($a$ $$ ' \" $a$, $$\n" + shell + "$$);\nSELECT 1 AS \"a\n" + shell + "\";",
		"5-comment.sql": "/* /* */ it's\n" + shell + "*/ INSERT INTO said VALUES ('comment', '');",
		"6-isolated.sql": "/*---\nmode: autocommit\n---*/\nBEGIN;\nSET TRANSACTION ISOLATION LEVEL SERIALIZABLE;\n" +
			"INSERT INTO said SELECT 'isolation', current_setting('transaction_isolation');\nCOMMIT;",
	})
	file := must(w.Standalone(t.Context(), "harbour", "production", client.Promotion{})).Standalone
	output, err := psql(t, w.URLs["production"], file)
	require.NoError(t, err, output)
	assert.NoFileExists(t, theft)
	assert.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
	assert.Equal(
		t,
		pgtest.Dump(t, w.URLs["staging"]),
		pgtest.Dump(t, w.URLs["production"]),
		"and means what it means to the service",
	)
	assert.Equal(t, told(t, w, "staging"), told(t, w, "production"))
}

// An edited file stops before it runs what is not the step's text.
func TestAnEditedFileForPsqlStops(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"1-create-berth.sql": "CREATE TABLE berth (name text DEFAULT 'Kai № 1');\n" +
				"INSERT INTO berth VALUES ('North quay');",
			"1-create-berth.check.sql": "SELECT count(*) = 1 FROM berth",
		},
	)
	file := unheld(t, must(w.Standalone(t.Context(), "harbour", "production", client.Promotion{})).Standalone)
	for _, edit := range [][2]string{{"North quay", "South quay"}, {"count(*) = 1", "count(*) = 2"}, {"№ 1", "№ 2"}} {
		require.Contains(t, file, edit[0])
		output, err := psql(t, w.URLs["production"], strings.Replace(file, edit[0], edit[1], 1))
		require.Error(t, err)
		gone(t, w.URLs["production"])
		assert.Contains(t, output, "this file was edited: what stands here, or before it, is not the text of step 1")
		assert.Equal(t, "0", pgtest.Query(t, w.URLs["production"], "SELECT count(*)::text FROM vorrang.ledger"))
	}
	// what is taken away, the last one too, or moved
	block := regexp.MustCompile(
		`(?s)SELECT CASE WHEN :'vorrang_ran'::pg_catalog\.text OPERATOR\(pg_catalog\.=\) '\d' AND .*?\\gexec \\set vorrang_ran \d\n`,
	)
	blocks := block.FindAllString(file, -1)
	require.Len(t, blocks, 3, "two statements and a check")
	for what, other := range map[string]string{
		"without the first":  strings.Replace(file, blocks[0], "", 1),
		"without the second": strings.Replace(file, blocks[1], "", 1),
		"without the check":  strings.Replace(file, blocks[2], "", 1),
		"without any":        block.ReplaceAllString(file, ""),
		"turned round":       strings.NewReplacer(blocks[0], blocks[1], blocks[1], blocks[0]).Replace(file),
		"one of them twice":  strings.Replace(file, blocks[1], blocks[1]+blocks[1], 1),
	} {
		output, err := psql(t, w.URLs["production"], other)
		require.Error(t, err, what)
		gone(t, w.URLs["production"])
		assert.Contains(t, output, "this file was edited: ", what)
		assert.Equal(t, "0", pgtest.Query(t, w.URLs["production"], "SELECT count(*)::text FROM vorrang.ledger"), what)
	}
	output, err := psql(t, w.URLs["production"], file)
	require.NoError(t, err, output)
}

func TestAFileForPsqlDoesWhatADeploymentDoes(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	w.Submitted(manyKinds)
	file := must(w.Standalone(ctx, "harbour", "staging", client.Promotion{})).Standalone
	output, err := psql(t, w.URLs["staging"], file)
	require.NoError(t, err, "%s", output)
	require.Equal(t, deploy.Done, w.Promoted("production").Outcome)
	assert.Equal(t, told(t, w, "production"), told(t, w, "staging"))
	assert.Equal(t, pgtest.Dump(t, w.URLs["production"]), pgtest.Dump(t, w.URLs["staging"]))
	for _, d := range must(w.Verify(ctx, "harbour", "staging")).Deviations {
		assert.Equal(t, verify.History, d.Kind, "but for what development lacks: %s", d.What)
	}
	assert.True(
		t,
		must(w.Promote(ctx, "harbour", "staging", client.Promotion{})).Nothing,
		"Vorrang sees an ordinary deployment",
	)

	_, err = w.Standalone(ctx, "harbour", "staging", client.Promotion{})
	assert.Contains(t, problem(t, err).Detail, "there is nothing to do on staging")
	output, err = psql(t, w.URLs["staging"], file)
	require.Error(t, err)
	assert.Contains(t, output, "the ledger's head is not the one that this file was made for")

	back := must(w.StandaloneBack(ctx, "harbour", "staging", client.Way{To: "0"})).Standalone
	output, err = psql(t, w.URLs["staging"], back)
	require.NoError(t, err, "%s", output)
	w.Ended(must(w.Rollback(ctx, "harbour", "production", client.Way{To: "0"}, "production")))
	assert.Equal(t, told(t, w, "production"), told(t, w, "staging"))
	assert.Equal(t, pgtest.Dump(t, w.URLs["production"]), pgtest.Dump(t, w.URLs["staging"]))

	intact := func() string {
		return gate.Result{Checks: must(w.Gate(ctx, "harbour", "staging", "")).Checks}.Find(gate.LedgerIntact).Evidence
	}
	n := len(told(t, w, "staging"))
	assert.Contains(t, intact(), "the ledger's "+fmt.Sprint(n)+" entries holds")
	again := must(w.Standalone(ctx, "harbour", "staging", client.Promotion{})).Standalone // over a head that was seen
	output, err = psql(t, w.URLs["staging"], again)
	require.NoError(t, err, "%s", output)
	assert.Contains(t, intact(), "the ledger's "+fmt.Sprint(len(told(t, w, "staging")))+" entries holds")
	assert.Greater(t, len(told(t, w, "staging")), n)
}

func TestAFileForPsqlStopsAtTheFirstError(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	files := map[string]string{
		"1-a.sql":       "CREATE TABLE a (id int)",
		"2-b.sql":       "CREATE TABLE b (id int)",
		"2-b.check.sql": "SELECT true, EXISTS (SELECT FROM b)",
	}
	w.Submitted(files)
	write := func() string {
		return must(w.Standalone(ctx, "harbour", "staging", client.Promotion{})).Standalone
	}
	other := pgtest.Connect(t, w.URLs["staging"])
	_, err := other.Exec(ctx, "SELECT pg_advisory_lock($1)", int64(0x566f7272616e6731))
	require.NoError(t, err)
	output, err := psql(t, w.URLs["staging"], write())
	require.Error(t, err)
	assert.Contains(t, output, "another deployment is running on this database")
	_, err = other.Exec(ctx, "SELECT pg_advisory_unlock_all()")
	require.NoError(t, err)

	output, err = psql(t, w.URLs["staging"], write())
	require.Error(t, err)
	assert.Contains(t, output, "query 1 of the check does not hold: it gave (t,f)")
	assert.Equal(
		t, "1",
		string(must(w.Status(ctx, "harbour", "staging", "none")).At),
		"the first step stays, the second left nothing",
	)
	assert.Equal(t, "false", pgtest.Query(t, w.URLs["staging"], "SELECT to_regclass('public.b') IS NOT NULL"))

	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id bigint)"})
	_, err = w.Standalone(ctx, "harbour", "staging", client.Promotion{})
	assert.Equal(t, "held", problem(t, err).Kind(), "no file is written for a history that is not right")
}

func TestAFileForPsqlGoesOnWhereAnEarlierTryStopped(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"1-a.sql": "/*---\nmode: autocommit\n---*/\nCREATE TABLE a (id int);\nINSERT INTO a SELECT 1 / (SELECT count(*) " +
				"FROM pg_class WHERE relname = 'switch');",
		},
	)
	require.Equal(t, deploy.Failed, w.Promoted("staging").Outcome)
	pgtest.Exec(t, w.URLs["staging"], "CREATE TABLE public.switch ()")
	file := must(w.Standalone(t.Context(), "harbour", "staging", client.Promotion{})).Standalone
	assert.NotContains(t, file, "CREATE TABLE a")
	output, err := psql(t, w.URLs["staging"], file)
	require.NoError(t, err, "%s", output)
	assert.Equal(t, "1", string(must(w.Status(t.Context(), "harbour", "staging", "none")).At))
}

// TestAFileForPsqlKeepsARoleAndItsLock: what a script does to its session reaches
// neither the ledger's rows nor the next step, in a file as in the service.
func TestAFileForPsqlKeepsARoleAndItsLock(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	w.LetSteps("session-user")
	w.Submitted(map[string]string{
		"1-a.sql": autocommit + "GRANT CREATE ON SCHEMA public TO pg_monitor;\nSET ROLE pg_monitor;\n" +
			"CREATE TABLE quay (id int);\nSELECT pg_advisory_unlock_all();\nSET DateStyle = 'German';\n" +
			"SET statement_timeout = '1s';\nSELECT 1;",
		"2-b.sql": "SET DateStyle = 'German'; SET search_path = pg_catalog; SET SESSION AUTHORIZATION pg_monitor; CREATE " +
			"TABLE public.mole (id int);",
		"3-c.sql": "CREATE TABLE pier (id int);",
		"4-d.sql": "SET search_path = public; RESET search_path; CREATE TABLE lock (id int);",
		"5-e.sql": autocommit + "RESET ALL;\nCREATE TABLE sluice (id int);\nSET search_path TO DEFAULT;\n" +
			"CREATE TABLE weir (id int);",
	})
	file := must(w.Standalone(ctx, "harbour", "staging", client.Promotion{})).Standalone
	output, err := psql(t, w.URLs["staging"], file)
	require.NoError(t, err, "%s", output)
	assert.Equal(
		t,
		"lock vorrang, mole pg_monitor, pier vorrang, quay pg_monitor, sluice vorrang, weir vorrang",
		pgtest.Query(
			t,
			w.URLs["staging"],
			"SELECT string_agg(tablename || ' ' || tableowner, ', ' ORDER BY tablename) FROM pg_tables WHERE schemaname "+
				"= 'public'",
		),
	)
	history := must(w.Ledger(ctx, "harbour", "staging", 0))
	assert.Empty(t, history.Chain)
	assert.True(t, must(w.Promote(ctx, "harbour", "staging", client.Promotion{})).Nothing)
}
