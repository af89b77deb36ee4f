package service_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// TestADeploymentsFootprintStandsBesideTheRehearsedOne: what a rehearsal saw on the empty
// copy, with the target's sizes, and what the deployment then did.
func TestADeploymentsFootprintStandsBesideTheRehearsedOne(t *testing.T) {
	w, _ := rehearsed(t, map[string]string{
		"2-widen-id.sql":      "ALTER TABLE public.berth ALTER COLUMN id TYPE bigint;",
		"2-widen-id.back.sql": "ALTER TABLE public.berth ALTER COLUMN id TYPE int;",
		"3-rename.sql": "UPDATE public.berth SET name = 'Quay ' || id WHERE id > 10;\n" +
			"DO $$ BEGIN IF (SELECT count(*) > 0 FROM public.berth) THEN LOCK TABLE public.berth IN SHARE MODE; END IF; END $$;",
	})
	pgtest.Exec(t, w.URLs["staging"], "INSERT INTO public.berth SELECT n, 'Berth ' || n FROM generate_series(2, 5000) "+
		"AS n; ANALYZE public.berth")
	must(w.Drift(t.Context(), "harbour", "staging"))
	r := must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil))
	require.Len(t, r.Surroundings, 2)
	assert.Contains(t, r.Surroundings[0], "step 2, line 1: public.berth (about 5,000 rows, ")
	assert.Contains(t, r.Surroundings[0], "): reads and writes wait while it is written again")
	assert.Contains(t, r.Surroundings[1], " to write again, at 20 MiB to 200 MiB a second")

	id := w.Promoted("staging").ID
	list := must(w.Footprints(t.Context(), id)).Footprints
	require.Len(t, list, 2)
	widened, renamed := list[0], list[1]
	require.Len(t, widened.Estimates, 1)
	assert.Equal(t, "public.berth", widened.Estimates[0].Table)
	assert.Positive(t, widened.Measured.Tables[0].HeldMS)
	assert.Empty(t, widened.Measured.Statements, "the step is one statement")
	require.Len(t, renamed.Measured.Statements, 2)
	assert.EqualValues(t, 4990, renamed.Measured.Statements[0].Rows)
	assert.Equal(t, 2, renamed.Measured.Statements[1].Line)
	assert.Equal(t, 2, renamed.Measured.Tables[0].Line, "the lock that stops others is the second statement's")
	require.NotEmpty(t, widened.Measured.Tables)
	assert.Equal(t, engine.ReadsAndWrites, widened.Measured.Tables[0].Blocks)
	assert.True(t, widened.Measured.Tables[0].Rewritten)
	assert.True(t, widened.Rehearsed.Tables[0].Rewritten)
	assert.Equal(
		t,
		[]string{"public.berth: writes had to wait, which the rehearsal did not see"},
		renamed.Unlike,
		"it depended on rows",
	)
	assert.EqualValues(t, 4990, renamed.Measured.Tables[0].Updated)
}

// TestARehearsalSaysWhichStatementItWas that took a lock or wrote a table again.
func TestARehearsalSaysWhichStatementItWas(t *testing.T) {
	w, _ := rehearsed(t, map[string]string{
		"2-many.sql": "CREATE TABLE public.quay (id int PRIMARY KEY);\nUPDATE public.berth SET name = 'Quay';\n" +
			"ALTER TABLE public.berth ADD COLUMN quay int;\nALTER TABLE public.berth ALTER COLUMN id TYPE bigint;\nSELECT 1;",
	})
	r := must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil))
	require.True(t, r.Result.Passed, r.Result.Why)
	lines := map[string]int{}
	for _, table := range r.Result.Steps[0].Footprint.Tables {
		lines[table.Table] = table.Line
	}
	assert.Equal(t, map[string]int{"public.berth": 4}, lines)
	assert.Contains(t, r.Surroundings[0], "step 2, line 4: public.berth")
	assert.Greater(t, r.Result.Steps[0].Footprint.WALBytes, int64(1000), "of all statements")
	assert.Zero(t, r.Result.Steps[0].Footprint.TempBytes)

	w.Submitted(map[string]string{"3-sort.sql": "SET LOCAL work_mem = '64kB';\n" +
		"CREATE TABLE public.sorted AS SELECT n FROM generate_series(1, 100000) n ORDER BY -n;"})
	r = must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil))
	require.True(t, r.Result.Passed, r.Result.Why)
	assert.Greater(t, r.Result.Steps[1].Footprint.TempBytes, int64(100_000), "it did not fit into its memory")
	assert.Contains(t, strings.Join(r.Surroundings, "\n"), "of temporary files")
}

// TestAStepSaysForHowLongOthersMayWait: where its environment says nothing.
func TestAStepSaysForHowLongOthersMayWait(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.berth (id int)"})
	w.Promoted("staging")
	w.Submitted(map[string]string{
		"1-a.sql": "CREATE TABLE public.berth (id int)",
		"2-b.sql": "/*---\nblock-at-most: 200ms\nretries: 0\n---*/\nLOCK TABLE public.berth;\nSELECT pg_sleep(60);",
	})
	promoted := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{}))
	require.Eventually(t, func() bool {
		return pgtest.Query(t, w.URLs["staging"], "SELECT count(*) FROM pg_locks WHERE relation = "+
			"'public.berth'::regclass AND granted") == "1"
	}, 20*time.Second, 10*time.Millisecond)
	assert.Equal(
		t,
		"0",
		pgtest.Query(t, w.URLs["staging"], "SELECT count(*) FROM public.berth"),
		"a reader waits, and is let in",
	)
	ended := w.Ended(promoted)
	require.NotNil(t, ended.Failure)
	assert.Contains(t, ended.Failure.Message, "it gave way after others had waited for it for 200ms: ")
}

// TestWhoWaitsForADeploymentIsTold: also where no limit asks the step to give way.
func TestWhoWaitsForADeploymentIsTold(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.berth (id int)"})
	w.Promoted("staging")
	gate := pgtest.Connect(t, w.URLs["staging"])
	_, err := gate.Exec(t.Context(), "SELECT pg_advisory_lock(7)")
	require.NoError(t, err)
	w.Submitted(map[string]string{
		"1-a.sql": "CREATE TABLE public.berth (id int)",
		"2-b.sql": "/*---\nlock-timeout: none\n---*/\nLOCK TABLE public.berth;\nSELECT pg_advisory_xact_lock(7);",
	})
	promoted := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{}))
	held := func() string {
		return pgtest.Query(t, w.URLs["staging"], "SELECT count(*) FROM pg_locks WHERE relation = "+
			"'public.berth'::regclass AND mode = 'AccessExclusiveLock' AND granted")
	}
	require.Eventually(t, func() bool { return held() == "1" }, 20*time.Second, 10*time.Millisecond)
	reader := pgtest.Connect(t, w.URLs["staging"])
	read := make(chan error, 1)
	go func() {
		_, err := reader.Exec(context.WithoutCancel(t.Context()), "SELECT count(*) FROM public.berth")
		read <- err
	}()
	var told deploy.Event
	require.NoError(t, w.Follow(t.Context(), promoted.Deployment.ID, 0, func(e deploy.Event) error {
		if e.Kind == deploy.Blocking && told.Kind == "" {
			told = e
			_, err := gate.Exec(t.Context(), "SELECT pg_advisory_unlock(7)") // the step goes on
			return err
		}
		return nil
	}))
	require.NoError(t, <-read)
	assert.Contains(t, told.Message, "1 session waits for this deployment, for up to ")
	require.Len(t, told.Blockers, 1)
	assert.Equal(t, fmt.Sprint(reader.PgConn().PID()), fmt.Sprint(told.Blockers[0].PID))
	assert.Equal(t, "public.berth", told.Blockers[0].Table)
	assert.Contains(t, told.Message, "lock on public.berth")
	assert.Equal(t, deploy.Done, must(w.Deployment(t.Context(), promoted.Deployment.ID)).Outcome)
}

// TestWhatCommitsByItselfHasAFootprintToo: what was written again; and how long a step
// waited for locks, and on whom.
func TestWhatCommitsByItselfHasAFootprintToo(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{
		"1-a.sql": "CREATE TABLE public.berth (id int PRIMARY KEY); CREATE TABLE public.quay (id int); INSERT INTO " +
			"public.berth SELECT generate_series(1, 20000)",
	})
	w.Promoted("staging")
	w.Submitted(map[string]string{
		"2-pack.sql": "/*---\nmode: autocommit\n---*/\nVACUUM FULL public.berth;",
		"3-wait.sql": "/*---\nlock-timeout: 60s\n---*/\nSELECT 1;\nALTER TABLE public.quay ADD COLUMN name text;",
	})
	holder := pgtest.Connect(t, w.URLs["staging"])
	_, err := holder.Exec(t.Context(), "BEGIN; LOCK TABLE public.quay")
	require.NoError(t, err)
	promoted := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{}))
	id := promoted.Deployment.ID
	told := ""
	require.NoError(t, w.Follow(t.Context(), id, 0, func(e deploy.Event) error {
		switch {
		case e.Kind == deploy.Waiting:
			_, err := holder.Exec(context.Background(), "SELECT pg_sleep(0.2); COMMIT")
			return err
		case e.Kind == deploy.Measured && e.Step == "3":
			told = e.Message
		}
		return nil
	}))
	list := must(w.Footprints(t.Context(), id)).Footprints
	require.Len(t, list, 2)
	packed, waited := list[0].Measured, list[1].Measured
	require.Len(t, packed.Tables, 2, "%+v", packed)
	assert.Equal(t, "public.berth", packed.Tables[0].Table)
	assert.True(t, packed.Tables[0].Rewritten)
	assert.Greater(t, packed.Tables[0].Bytes, int64(100_000))
	assert.Equal(t, "public.berth_pkey", packed.Tables[1].Table)
	assert.Greater(t, packed.WALBytes, int64(100_000))
	assert.GreaterOrEqual(t, waited.WaitedMS, int64(200))
	require.Len(t, waited.Waited, 1)
	assert.Contains(t, waited.Waited[0], fmt.Sprintf("session %d", holder.PgConn().PID()))
	assert.Contains(t, told, "for locks, of session ")
}
