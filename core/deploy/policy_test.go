package deploy_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/internal/pgtest"
)

// planned makes a promotion's plan, changed by with.
func (y *yard) planned(with func(*plan.Plan)) plan.Plan {
	p, err := plan.Forward(y.view(), "")
	require.NoError(y.t, err)
	with(&p)
	require.NoError(y.t, p.Promise())
	return p
}

func backOut(p *plan.Plan) { p.OnFailure = plan.BackOut }
func whole(p *plan.Plan)   { p.Whole = true }

const tables = "SELECT coalesce(string_agg(relname, ' ' ORDER BY relname), '') FROM pg_class WHERE relkind IN ('r', " +
	"'i') AND relnamespace = 'public'::regnamespace"

func TestBackingOutLeavesTheSchemaAsItWas(t *testing.T) {
	y := newYard(t, map[string]string{
		"1-a.sql": "CREATE TABLE a (id int)", "1-a.back.sql": "DROP TABLE a",
		"2-b.sql": "CREATE TABLE b (id int)", "2-b.back.sql": "DROP TABLE b",
		"3-c.sql": autocommit + "CREATE TABLE c (id int);\n" +
			"CREATE UNIQUE INDEX CONCURRENTLY c_id ON c (id);", "3-c.back.sql": "DROP INDEX CONCURRENTLY IF EXISTS c_id;\n" +
			"DROP TABLE c;",
	})
	p, err := plan.Forward(y.view(), "1")
	require.NoError(t, err)
	require.Equal(t, deploy.Done, y.run(t.Context(), p).Outcome)

	y.files["4-d.sql"], y.files["4-d.back.sql"] = "SELECT 1/0", "SELECT 1"
	result := y.run(t.Context(), y.planned(backOut))
	assert.Equal(t, deploy.BackedOut, result.Outcome)
	assert.Equal(t, "4-d.sql", result.Failure.File, "it still says what failed")
	assert.Equal(t, "a", y.query(tables), "what an earlier deployment applied stays")
	assert.Equal(
		t,
		[]ledger.Status{ledger.StatusApplied, ledger.StatusRolledBack, ledger.StatusRolledBack, ledger.StatusFailed},
		[]ledger.Status{y.status("1"), y.status("2"), y.status("3"), y.status("4")},
	)
	assert.Contains(
		t, y.kinds(),
		"step-failed backing-out step-began statement statement step-done step-began step-done ended",
	)

	// a step of which only a part took effect goes back first
	delete(y.files, "4-d.sql")
	delete(y.files, "4-d.back.sql")
	y.files["3-c.sql"] = autocommit + "CREATE TABLE c (id int);\nINSERT INTO c VALUES (1), (1);\n" +
		"CREATE UNIQUE INDEX CONCURRENTLY c_id ON c (id);"
	result = y.run(t.Context(), y.planned(backOut))
	assert.Equal(t, deploy.BackedOut, result.Outcome)
	assert.Equal(t, "a", y.query(tables))
	assert.Equal(t, ledger.StatusRolledBack, y.status("3"))

	y.files["3-c.back.sql"] = "DROP TABLE nowhere"
	result = y.run(t.Context(), y.planned(backOut))
	assert.Equal(t, deploy.Failed, result.Outcome, "a way back that fails leaves a failed deployment")
	assert.Contains(
		t, y.output(),
		"backing out stopped at step 3: the way back ran, and of what the step did this is left: table c is there",
	)
	assert.Equal(
		t, ledger.StatusFailed,
		y.status("3"),
		"the failed way back reversed nothing; the step is as far as it came",
	)
	assert.Equal(t, 3, y.view().State.Of("3").Progress().Statement)
	y.files["3-c.sql"] = strings.Replace(y.files["3-c.sql"], "UNIQUE", "", 1)
	require.Equal(t, deploy.Done, y.promote().Outcome, "and goes on there")
	assert.Equal(t, "a b c c_id", y.query(tables))
}

func TestAWholeDeploymentIsAllOrNothing(t *testing.T) {
	y := newYard(t, map[string]string{
		"1-a.sql": "CREATE TABLE a (id int); SET search_path = pg_temp; CREATE TEMP TABLE " +
			"passing (id int)", "1-a.check.sql": "SELECT count(*) = 0 FROM public.a",
		"2-b.sql": "CREATE TABLE b (id int)", "3-c.sql": "INSERT INTO b VALUES (1);\nSELECT 1/0",
	})
	before := y.view().State.Head
	result := y.run(t.Context(), y.planned(whole))
	require.Equal(t, deploy.Failed, result.Outcome)
	assert.Equal(t, "3-c.sql:2:1", strings.TrimSuffix(result.Failure.Error(), ": division by zero"))
	assert.Contains(t, result.Failure.Left, "the transaction of the whole deployment was rolled back")
	assert.Equal(t, "", y.query(tables))
	assert.Equal(t, before.Seq+1, y.view().State.Head.Seq, "only the failure was noted")
	assert.Equal(
		t,
		[]ledger.Status{ledger.StatusPending, ledger.StatusPending, ledger.StatusFailed},
		[]ledger.Status{y.status("1"), y.status("2"), y.status("3")},
	)

	y.files["3-c.sql"] = "INSERT INTO b VALUES (1)"
	result = y.run(t.Context(), y.planned(whole))
	require.Equal(t, deploy.Done, result.Outcome, "%v", result.Failure)
	assert.Equal(t, "a b", y.query(tables), "each step had a fresh session, and b is in public")
	assert.Equal(
		t, "1",
		y.query("SELECT count(DISTINCT xmin::text) FROM vorrang.ledger WHERE action = 'applied'"),
		"one transaction",
	)
	assert.Equal(t, result.Head, y.view().State.Head)
	assert.Contains(
		t, y.kinds(),
		"step-ready step-began step-ready step-began step-ready step-done step-done step-done ended",
		"no step is done before the commit",
	)
}

func TestRebuildingEmptiesAndAppliesEverything(t *testing.T) {
	y := newYard(t, map[string]string{
		"1-a.sql": "CREATE SCHEMA harbour; CREATE TABLE harbour.a (id int); CREATE VIEW v AS SELECT * FROM harbour.a; " +
			"CREATE TYPE berth_kind AS ENUM ('quay', 'buoy'); CREATE DOMAIN metres AS numeric; CREATE EXTENSION citext",
		"2-b.sql": "CREATE TABLE b (id int, name citext); CREATE FUNCTION f(int, text) RETURNS int LANGUAGE sql AS " +
			"'SELECT 1'; CREATE AGGREGATE total(int) (SFUNC = int4pl, STYPE = int); CREATE STATISTICS s ON id, name FROM b",
	})
	require.Equal(t, deploy.Done, y.promote().Outcome)
	pgtest.Exec(
		t, y.url,
		"CREATE TABLE public.by_hand (id int); CREATE SEQUENCE public.loose; INSERT INTO public.b VALUES (7)",
	)
	result := y.run(t.Context(), plan.Rebuild(y.view()))
	require.Equal(t, deploy.Done, result.Outcome, "%v", result.Failure)
	assert.Equal(t, "b", y.query(tables), "what was made by hand is gone")
	assert.Equal(t, "0", y.query("SELECT count(*) FROM b"))
	assert.Equal(
		t,
		"applied applied rolled-back rolled-back applied applied",
		y.query("SELECT string_agg(action, ' ' ORDER BY seq) FROM vorrang.ledger"),
	)
	assert.Equal(
		t, "2 1",
		y.query("SELECT string_agg(step, ' ' ORDER BY seq) FROM vorrang.ledger WHERE action = 'rolled-back'"),
	)
	assert.Contains(t, y.output(), "the effect of 2 steps went with them")

	y.files["2-b.sql"] = "SELECT 1/0"
	result = y.run(t.Context(), plan.Rebuild(y.view()))
	require.Equal(t, deploy.Failed, result.Outcome)
	assert.Equal(t, ledger.StatusApplied, y.status("1"))
	assert.Equal(t, ledger.StatusFailed, y.status("2"), "it failed, and nothing of it is there")
}

func TestWhatCannotBeEmptiedStaysWhole(t *testing.T) {
	y := newYard(t, map[string]string{"1-a.sql": "CREATE TABLE a (id int)"})
	require.Equal(t, deploy.Done, y.promote().Outcome)
	blocker := pgtest.Connect(t, y.url)
	_, err := blocker.Exec(t.Context(), "BEGIN; LOCK TABLE a")
	require.NoError(t, err)
	result := y.run(t.Context(), plan.Rebuild(y.view()))
	require.Equal(t, deploy.Failed, result.Outcome)
	assert.Contains(
		t, result.Failure.Message,
		"the application's schemas could not be emptied: canceling statement due to lock timeout",
	)
	assert.Equal(t, ledger.StatusApplied, y.status("1"))
}
