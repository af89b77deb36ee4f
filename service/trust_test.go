package service_test

import (
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/internal/advice"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

// halfDone is a step that fails at its third statement of four, above another.
var halfDone = map[string]string{
	"1-berth.sql": "CREATE TABLE berth (id int);", "1-berth.back.sql": "DROP TABLE berth;",
	"2-index.sql": autocommit + "ALTER TABLE berth ADD COLUMN name text;\nCREATE TABLE mole (id int);\n" +
		"SELECT 1 / (SELECT count(*) FROM berth);\nCREATE INDEX CONCURRENTLY berth_name ON berth (name);",
	"2-index.back.sql": "DROP INDEX CONCURRENTLY berth_name;\nDROP TABLE mole;\nALTER TABLE berth DROP COLUMN name;",
}

// halfWay is a world whose staging has the half-done step.
func halfWay(t *testing.T) *servicetest.World {
	w := servicetest.Start(t)
	w.Submitted(halfDone)
	require.Equal(t, deploy.Failed, w.Promoted("staging").Outcome)
	return w
}

func heldBy(t *testing.T, w *servicetest.World, environment string) gate.Check {
	t.Helper()
	_, err := w.Promote(t.Context(), "harbour", environment, client.Promotion{})
	refused := problem(t, err)
	for _, c := range refused.Checks {
		if c.Verdict == gate.Hold {
			return c
		}
	}
	require.Fail(t, "no check holds", "%v", refused)
	return gate.Check{}
}

func TestAHalfDoneStepIsUndoneBeforeWhatIsBeneathIt(t *testing.T) {
	w := halfWay(t)
	back := must(w.PreviewBack(t.Context(), "harbour", "staging", client.Way{Last: 1}))
	require.Len(t, back.Actions, 1)
	assert.Equal(t, "2", string(back.Actions[0].Number), "the newest is the half-done one")
	require.Equal(
		t, deploy.Done,
		w.Ended(must(w.Rollback(t.Context(), "harbour", "staging", client.Way{To: "0"}, "staging"))).Outcome,
	)
	assert.Equal(
		t, "0",
		pgtest.Query(t, w.URLs["staging"], "SELECT count(*) FROM pg_class WHERE relname IN ('berth', 'mole')"),
	)
	pgtest.Exec(t, w.URLs["staging"], "CREATE FUNCTION public.one() RETURNS int LANGUAGE sql AS 'SELECT 1'")
}

func TestAHalfDoneStepGoesOnOnlyWhereItsBeginningStillHolds(t *testing.T) {
	nextDirection := "INSERT INTO public.berth VALUES (1)"
	edited := func(w *servicetest.World, old, new string) *api.Submitted {
		return w.Submitted(map[string]string{"2-index.sql": strings.Replace(halfDone["2-index.sql"], old, new, 1)})
	}
	cases := map[string]struct {
		by      func(w *servicetest.World)
		message string // why it is held; empty where it goes on
	}{
		"nothing happened": {func(*servicetest.World) {}, ""},
		"what it made was dropped by hand": {
			func(w *servicetest.World) { pgtest.Exec(w.T, w.URLs["staging"], "DROP TABLE public.mole") },
			"what its earlier statements did is no longer so: table mole is not there",
		},
		"what it altered was altered back": {func(w *servicetest.World) {
			pgtest.Exec(w.T, w.URLs["staging"], "ALTER TABLE public.berth DROP COLUMN name")
		},
			"column berth.name is not there"},
		"what ran was edited": {func(w *servicetest.World) {
			assert.Len(w.T, edited(w, "mole", "pier").Applied, 1)
		}, "the statements before number 3 took effect, and were changed since"},
		"what follows was edited": {func(w *servicetest.World) {
			assert.Empty(w.T, edited(w, "berth_name", "berth_by_name").Applied)
		}, ""},
		"it is meant for others": {func(w *servicetest.World) {
			edited(w, "mode:", "only: production\nmode:")
		}, "it is no longer meant for this environment"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := halfWay(t)
			pgtest.Exec(t, w.URLs["staging"], nextDirection)
			c.by(w)
			if c.message == "" {
				require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
				return
			}
			check := heldBy(t, w, "staging")
			assert.Equal(t, gate.NothingInDoubt, check.ID)
			assert.Contains(t, check.Evidence, "step 2 (index) stopped at statement 3 of 4, and cannot go on there: ")
			assert.Contains(t, check.Evidence, c.message)
			assert.NotEmpty(t, must(w.Verify(t.Context(), "harbour", "staging")).Deviations)
		})
	}
}

func TestAHalfDoneStepIsSettledAsAWhole(t *testing.T) {
	settle := func(w *servicetest.World, as string, acknowledge bool) (*api.Recorded, error) {
		return w.Settle(
			w.T.Context(), "harbour", "staging",
			client.Settlement{Step: "2", As: as, Reason: "by hand", Acknowledge: acknowledge},
		)
	}
	t.Run("undone", func(t *testing.T) {
		w := halfWay(t)
		_, err := settle(w, "undone", false)
		assert.Equal(
			t,
			[]string{"column berth.name is there", "table mole is there"},
			sorted(problem(t, err).Differences),
		)
		pgtest.Exec(
			t,
			w.URLs["staging"],
			"DROP TABLE public.mole; ALTER TABLE public.berth DROP COLUMN name; INSERT INTO public.berth VALUES (1)",
		)
		must(settle(w, "undone", false))
		assert.Empty(t, must(w.Status(t.Context(), "harbour", "staging", "none")).Trouble)
		require.Equal(t, deploy.Done, w.Promoted("staging").Outcome, "it runs from its first statement")
	})
	t.Run("whole", func(t *testing.T) {
		w := halfWay(t)
		_, err := settle(w, "whole", false)
		assert.Contains(t, problem(t, err).Differences[0], "index berth_name is not there")
		pgtest.Exec(t, w.URLs["staging"], "CREATE INDEX berth_name ON public.berth (name)")
		must(settle(w, "whole", false))
		assert.True(t, must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{})).Nothing)
	})
	t.Run("again", func(t *testing.T) {
		w := halfWay(t)
		must(settle(w, "again", true))
		ended := w.Promoted("staging")
		require.Equal(t, deploy.Failed, ended.Outcome)
		assert.Equal(
			t, 1, ended.Failure.Statement,
			"it began at its first statement, which what is left stands in the way of",
		)
		require.Equal(
			t, deploy.Done,
			w.Ended(must(w.Rollback(t.Context(), "harbour", "staging", client.Way{Last: 1}, "staging"))).Outcome,
			"what is left is still known",
		)
		assert.Equal(t, "true", pgtest.Query(t, w.URLs["staging"], "SELECT to_regclass('mole') IS NULL"))
	})
	t.Run("a way back that cannot be finished", func(t *testing.T) {
		w := servicetest.Start(t)
		w.Submitted(
			map[string]string{
				"1-a.sql":      autocommit + "CREATE TABLE a (id int);\nCREATE TABLE b (id int);",
				"1-a.back.sql": "DROP TABLE b;\nDROP TABLE nowhere;",
			},
		)
		require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
		require.Equal(
			t, deploy.Failed,
			w.Ended(must(w.Rollback(t.Context(), "harbour", "staging", client.Way{Last: 1}, "staging"))).Outcome,
		)
		assert.Contains(
			t,
			advice.Text(heldBy(t, w, "staging").Remedies),
			"vorrang settle -lane harbour -env staging -step 1 -as undone",
		)
		pgtest.Exec(t, w.URLs["staging"], "DROP TABLE public.a")
		must(
			w.Settle(
				t.Context(), "harbour", "staging",
				client.Settlement{Step: "1", As: "undone", Reason: "finished by hand"},
			),
		)
		require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
	})
}

func TestDriftOutlivesDeployments(t *testing.T) {
	drift := func(w *servicetest.World) []string {
		var found []string
		d := must(w.Drift(t.Context(), "harbour", "staging"))
		require.Empty(t, d.Unknown)
		for _, one := range d.Differences {
			found = append(found, one.String())
		}
		return found
	}
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int)"})
	require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
	pgtest.Exec(t, w.URLs["staging"], "CREATE INDEX by_hand ON public.a (id)")
	w.Submitted(map[string]string{"2-b.sql": "CREATE TABLE b (id int)"})
	ended := w.Promoted("staging")
	require.Equal(t, deploy.Done, ended.Outcome)
	assert.Equal(t, []string{"added index public.by_hand"}, drift(w))
	output := ""
	require.NoError(t, w.Follow(t.Context(), ended.ID, 0, func(e deploy.Event) error { output += e.Message; return nil }))
	assert.Contains(
		t, output,
		"the schema had drifted before the first step: 1 object differs from what deployment 1 left",
	)

	w.Submitted(map[string]string{"3-c.sql": "SELECT 1/0"})
	require.Equal(t, deploy.Failed, w.Promoted("staging").Outcome)
	assert.Equal(t, []string{"added index public.by_hand"}, drift(w), "after one that failed")
	w.Gates(map[string]string{"staging": "release: not-asked, drift: refused"})
	w.Submitted(map[string]string{"3-c.sql": "CREATE TABLE c (id int)"})
	keeper := w.As("t.helm", "keeper", "releaser")
	_, err := keeper.Waive(t.Context(), "harbour", "staging", "drift", "", "it can wait")
	require.NoError(t, err)
	require.Equal(
		t, deploy.Done,
		w.Ended(must(keeper.Promote(t.Context(), "harbour", "staging", client.Promotion{}))).Outcome,
	)
	assert.Equal(t, []string{"added index public.by_hand"}, drift(w), "after one that waived it")
	d := must(w.Drift(t.Context(), "harbour", "staging"))
	must(w.Accept(t.Context(), "harbour", "staging", d.Fingerprint, "it is needed"))
	assert.Empty(t, drift(w))
}

func TestOneDatabaseBelongsToOneEnvironment(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int)"})
	declare := func(name, file string) error {
		_, err := w.Declare(
			t.Context(), "lane.yaml",
			[]byte("lane: "+name+"\nenvironments: [{name: staging, target: \"file:"+file+"\"}]\n"),
		)
		return err
	}
	assert.Contains(t, problem(t, declare("tides", w.Files["staging"])).Detail, "is the database of")

	// the references lead elsewhere after they were declared
	other := strings.Replace(w.URLs["staging"], "127.0.0.1", "localhost", 1)
	own, err := os.ReadFile(w.Files["production"])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.Files["production"], []byte(other), 0o600))
	_, err = w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	assert.Contains(t, problem(t, err).Detail, "the target of harbour/staging is the database of harbour/production")
	require.NoError(t, os.WriteFile(w.Files["production"], own, 0o600))
	require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
	require.NoError(t, os.WriteFile(w.Files["production"], []byte(other), 0o600))
	check := heldBy(t, w, "production")
	assert.Equal(t, gate.KnownDatabase, check.ID)
	assert.Contains(t, check.Evidence, "it belongs to harbour/staging, and not to harbour/production")
	probed := must(w.Probe(t.Context(), "harbour", "production"))
	assert.False(t, probed.Usable)
	_, err = w.Rebuild(t.Context(), "harbour", "development", "development")
	require.NoError(t, err, "development is not concerned")
}

// restore replaces a database by a dump of another.
func restore(t *testing.T, from, to string) {
	name := to[strings.LastIndexByte(to, '/')+1:]
	pgtest.Exec(t, pgtest.Shared(t).URL("postgres"), "DROP DATABASE "+name+" WITH (FORCE)")
	pgtest.Exec(t, pgtest.Shared(t).URL("postgres"), "CREATE DATABASE "+name)
	if from == "" {
		return
	}
	text, err := exec.Command("/usr/lib/postgresql/15/bin/pg_dump", from).Output()
	require.NoError(t, err)
	command := exec.Command("/usr/lib/postgresql/15/bin/psql", "-Xq", "-v", "ON_ERROR_STOP=1", to)
	command.Stdin = strings.NewReader(string(text))
	output, err := command.CombinedOutput()
	require.NoError(t, err, "%s", output)
}

func TestWhatIsFoundInATargetCanBeAdopted(t *testing.T) {
	adopt := func(w *servicetest.World, environment string) *api.Recorded {
		found := must(w.Adoption(t.Context(), "harbour", environment))
		require.True(t, found.Needed, "%v", found.Lines)
		return must(w.Adopt(t.Context(), "harbour", environment, found.Finding, "it is meant"))
	}
	tidy := func(w *servicetest.World, environment string) {
		t.Helper()
		assert.Empty(t, must(w.Status(t.Context(), "harbour", environment, "none")).Trouble)
		assert.Empty(t, must(w.Drift(t.Context(), "harbour", environment)).Differences)
	}
	start := func() *servicetest.World {
		w := servicetest.Start(t)
		w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int)", "2-b.sql": "CREATE TABLE b (id int)"})
		return w
	}
	t.Run("a development that was made again", func(t *testing.T) {
		w := start()
		require.Equal(t, deploy.Done, w.Promoted("development").Outcome)
		restore(t, "", w.URLs["development"])
		assert.Equal(t, gate.LedgerIntact, heldBy(t, w, "development").ID)
		require.Equal(
			t, deploy.Done,
			w.Ended(must(w.Rebuild(t.Context(), "harbour", "development", "development"))).Outcome,
			"it can always be rebuilt",
		)
		tidy(w, "development")
	})
	t.Run("a staging that was made again", func(t *testing.T) {
		w := start()
		require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
		restore(t, "", w.URLs["staging"])
		adopt(w, "staging")
		notes := must(w.Gate(t.Context(), "harbour", "staging", "")).Notes
		require.Len(t, notes, 1)
		assert.Contains(t, notes[0], "pilot adopted this target")
		require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
		assert.Empty(t, must(w.Gate(t.Context(), "harbour", "staging", "")).Notes, "until the next deployment")
		tidy(w, "staging")
	})
	t.Run("a staging refreshed from production", func(t *testing.T) {
		w := start()
		require.Equal(t, deploy.Done, w.Promoted("production").Outcome)
		w.Submitted(map[string]string{"3-c.sql": "CREATE TABLE c (id int)"})
		require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
		restore(t, w.URLs["production"], w.URLs["staging"])
		assert.Equal(t, gate.KnownDatabase, heldBy(t, w, "staging").ID)
		found := must(w.Adoption(t.Context(), "harbour", "staging"))
		assert.Contains(t, strings.Join(found.Lines, "\n"), "it says that the database belongs to harbour/production")
		assert.Equal(t, "removed table public.c", found.Differences[0].String())
		adopt(w, "staging")
		require.Equal(t, deploy.Done, w.Promoted("staging").Outcome, "step 3 runs again")
		tidy(w, "staging")
	})
	t.Run("one restored from an older backup, and written to", func(t *testing.T) {
		w := start()
		require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
		pgtest.Exec(
			t,
			w.URLs["staging"],
			"SET session_replication_role = replica; DELETE FROM vorrang.ledger WHERE seq = 1; UPDATE vorrang.ledger SET "+
				"actor = 'nobody'",
		)
		found := must(w.Adoption(t.Context(), "harbour", "staging"))
		_, err := w.Adopt(t.Context(), "harbour", "staging", "another", "it is meant")
		assert.Contains(t, problem(t, err).Detail, "is not what was shown")
		assert.True(t, found.Needed)
		adopt(w, "staging")
		assert.Equal(
			t, "1",
			string(must(w.Status(t.Context(), "harbour", "staging", "open")).Steps[0].Number),
			"what the ledger does not say is not so",
		)
		pgtest.Exec(
			t,
			w.URLs["staging"],
			"SET session_replication_role = replica; UPDATE vorrang.ledger SET actor = 'somebody' WHERE seq = 2",
		)
		assert.Contains(t, heldBy(t, w, "staging").Evidence, "what stands before it is not what was adopted there")
	})
	t.Run("a baseline that was wrong", func(t *testing.T) {
		w := start()
		pgtest.Exec(t, w.URLs["production"], "CREATE TABLE public.a (id int)")
		must(w.Baseline(t.Context(), "harbour", "production", "2", false))
		must(w.Baseline(t.Context(), "harbour", "production", "1", false))
		require.Equal(t, deploy.Done, w.Promoted("production").Outcome)
		assert.Equal(
			t, ledger.StatusApplied,
			must(w.Status(t.Context(), "harbour", "production", "all")).Steps[1].State,
		)
		_, err := w.Baseline(t.Context(), "harbour", "production", "2", false)
		assert.Contains(t, problem(t, err).Detail, "has a history already")
	})
}

func TestTheAPIDocumentsRulesAreEnforced(t *testing.T) {
	w := servicetest.Start(t)
	const env = "/api/v1/lanes/harbour/environments/staging"
	for body, message := range map[string]string{
		`{"as":"perhaps","step":"1","reason":"x"}`:   `as: it is applied, not-applied, undone, whole or again, not \"perhaps\"`,
		`{"as":"applied","reason":"x"}`:              "step: it is needed",
		`{"as":"applied","step":"1","reason":""}`:    "reason: it must not be empty",
		`{"as":"applied","step":null,"reason":"x"}`:  "step: it is needed",
		`{"as":"applied","step":"1","reason":"x"}{}`: "something follows its JSON object",
		`[]`: "the body: ",
		`{"as":"` + strings.Repeat("a", 300) + `","step":"1","reason":"x"}`: "aaaa…",
	} {
		answer, text := request(t, w, "POST", env+"/settlements", "application/json", body)
		assert.Equal(t, 400, answer, "%s", body)
		assert.Contains(t, text, message)
	}
	for path, message := range map[string]string{
		env + "?steps=some":             "steps: it is none, open or all",
		"/api/v1/deployments?limit=0":   "limit: 0 is less than 1, the least",
		"/api/v1/deployments?limit=501": "limit: 501 is more than 500, the most", "/api/v1/deployments?limit=" +
			strings.Repeat("9", 1000): "is not a whole number",
		"/api/v1/deployments?lane=%00": "a NUL byte cannot stand there",
	} {
		answer, text := request(t, w, "GET", path, "", "")
		assert.Equal(t, 400, answer, "%s", path)
		assert.Contains(t, text, message)
	}
}

func sorted(lines []string) []string {
	slices.Sort(lines)
	return lines
}
