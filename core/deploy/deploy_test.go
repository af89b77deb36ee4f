package deploy_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/pgtest"
	"vorrang/target/postgres"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// yard is a database with a step folder beside it. The core deploys to it
// without any service.
type yard struct {
	t       *testing.T
	url     string
	files   map[string]string
	session *postgres.Session
	stop    chan struct{}
	role    string
	onEvent func(deploy.Event)
	look    func(ctx context.Context, last bool) (schema.Schema, error)
	left    *schema.Schema // that the last run gave at its end
	slow    *slowToMeasure // the target instead of the session, if there is one

	mu     sync.Mutex
	events []deploy.Event
	pauses []time.Duration
	runs   int
}

func newYard(t *testing.T, files map[string]string) *yard {
	return yardAt(t, pgtest.Database(t), files)
}

func yardAt(t *testing.T, url string, files map[string]string) *yard {
	y := &yard{t: t, url: url, files: files, stop: make(chan struct{})}
	y.open()
	require.NoError(t, y.session.CreateLedger(t.Context()))
	return y
}

// open takes the target's lock with a new session.
func (y *yard) open() {
	if y.session != nil {
		y.session.Unlock() // closing alone gives the lock back a moment later
		y.session.Close()
	}
	session, err := postgres.Connect(y.t.Context(), y.url, "deploy test")
	require.NoError(y.t, err)
	y.t.Cleanup(session.Close)
	require.NoError(y.t, session.Lock(y.t.Context()))
	y.session = session
}

func (y *yard) steps() []step.Step {
	folder := fstest.MapFS{}
	for name, text := range y.files {
		folder[name] = &fstest.MapFile{Data: []byte(text)}
	}
	steps, err := step.ReadDir(folder)
	require.NoError(y.t, err)
	return steps
}

func (y *yard) view() plan.View {
	entries, _, err := y.session.ReadLedger(y.t.Context())
	require.NoError(y.t, err)
	require.NoError(y.t, ledger.Verify(entries), "the chain holds after whatever happened")
	var catalogue []plan.Step
	for _, s := range y.steps() {
		catalogue = append(catalogue, plan.Of(s))
	}
	return plan.Look("staging", catalogue, ledger.Fold(entries))
}

func (y *yard) run(ctx context.Context, p plan.Plan) deploy.Result {
	texts := map[step.Checksum][]byte{}
	for _, s := range y.steps() {
		for _, f := range []*step.File{&s.Forward, s.Back, s.Check} {
			if f != nil {
				texts[f.Checksum] = f.Text()
			}
		}
	}
	y.runs++
	y.events = nil
	runner := deploy.Runner{Dialect: postgres.Engine{}.Dialect(),
		Target: y.session, Now: time.Now, Stop: y.stop, Deployment: fmt.Sprint(y.runs), Actor: "pilot",
		Defaults: engine.Settings{LockTimeout: 50 * time.Millisecond, Role: y.role},
		Texts: func(_ context.Context, c step.Checksum) ([]byte, error) {
			if text, found := texts[c]; found {
				return text, nil
			}
			return nil, fmt.Errorf("no text %s", c)
		},
		Look: y.look, OnFinish: func(_ ledger.Head, left *schema.Schema) { y.left = left },
		Pause: func(_ context.Context, d time.Duration) { y.pauses = append(y.pauses, d) },
		Emit: func(e deploy.Event) {
			y.mu.Lock()
			y.events = append(y.events, e)
			y.mu.Unlock()
			if y.onEvent != nil {
				y.onEvent(e)
			}
		},
	}
	if y.slow != nil {
		y.slow.Session = y.session
		runner.Target, runner.Now = y.slow, func() time.Time { return y.slow.now }
		runner.Measure, runner.Thorough = true, true
	}
	return runner.Run(ctx, y.view().State.Head, p)
}

// slowToMeasure is a session at which an hour goes by while anything is measured, and no time
// otherwise.
type slowToMeasure struct {
	*postgres.Session
	now time.Time
}

func (s *slowToMeasure) Footprint(ctx context.Context) (engine.Footprint, error) {
	s.now = s.now.Add(time.Hour)
	return s.Session.Footprint(ctx)
}

func (s *slowToMeasure) Survey(ctx context.Context) (engine.Survey, error) {
	s.now = s.now.Add(time.Hour)
	return s.Session.Survey(ctx)
}

// TestAStepTakesAsLongAsItDoesUnmeasured: what is said of it, in its events and in the ledger, is its
// own time.
func TestAStepTakesAsLongAsItDoesUnmeasured(t *testing.T) {
	y := newYard(t, map[string]string{
		"1-berth.sql": "CREATE TABLE berth (id int); ALTER TABLE berth ADD COLUMN depth int;",
		"2-depth.sql": autocommit + "ALTER TABLE berth ALTER COLUMN depth TYPE bigint;",
		"3-wrong.sql": autocommit + "ALTER TABLE berth ADD COLUMN depth int;",
	})
	y.slow = &slowToMeasure{now: time.Now()}
	before := y.slow.now
	require.Equal(t, deploy.Failed, y.promote().Outcome)
	require.Greater(t, y.slow.now.Sub(before), 2*time.Hour)
	ended := 0
	for _, e := range y.events {
		if e.Kind == deploy.StepDone || e.Kind == deploy.StepFailed {
			ended++
			assert.Zero(t, e.DurationMS, "step %s, %s", e.Step, e.Kind)
		}
	}
	assert.Equal(t, 3, ended)
	assert.Equal(t, "0", y.query("SELECT max(duration_ms) FROM vorrang.ledger"))
}

func (y *yard) promote() deploy.Result {
	p, err := plan.Forward(y.view(), "")
	require.NoError(y.t, err)
	return y.run(y.t.Context(), p)
}

func (y *yard) rollback(n int) deploy.Result {
	view := y.view()
	p, err := plan.Back(view, plan.Way{Last: n}, func(number step.Number, _ step.Checksum) (plan.Step, bool) {
		standing, found := view.Find(number)
		return standing.Step, found
	})
	require.NoError(y.t, err)
	return y.run(y.t.Context(), p)
}

func (y *yard) status(number step.Number) ledger.Status { return y.view().State.Of(number).Status }

func (y *yard) query(sql string) string { return pgtest.Query(y.t, y.url, sql) }

// said is everything that the events of the last run said.
func (y *yard) output() string {
	y.mu.Lock()
	defer y.mu.Unlock()
	var output []string
	for _, e := range y.events {
		output = append(output, e.Message)
	}
	return strings.Join(output, "\n")
}

func (y *yard) kinds() string {
	y.mu.Lock()
	defer y.mu.Unlock()
	var kinds []string
	for i, e := range y.events {
		assert.Equal(y.t, int64(i+1), e.Seq, "events have numbers without gaps")
		kinds = append(kinds, string(e.Kind))
	}
	return strings.Join(kinds, " ")
}

const autocommit = "/*---\nmode: autocommit\n---*/\n"

func TestAStepItsCheckAndItsRowCommitTogether(t *testing.T) {
	y := newYard(t, map[string]string{
		"1-create-berth.sql":       "CREATE TABLE berth (id int);\nINSERT INTO berth VALUES (1), (2);",
		"1-create-berth.check.sql": "SELECT count(*) = 2, true FROM berth;",
		"2-load-berths.sql": "COPY berth FROM stdin;\n3\n4\n\\.\nDO $$ BEGIN RAISE NOTICE 'loaded % berths', " +
			"(SELECT count(*) FROM berth); END $$;",
	})
	result := y.promote()
	require.Equal(t, deploy.Done, result.Outcome)
	assert.Equal(t, "4", y.query("SELECT count(*) FROM berth"))
	assert.Equal(
		t,
		"started step-began statement statement step-done step-began statement statement notice step-done ended",
		y.kinds(),
	)
	assert.Equal(t, "NOTICE loaded 4 berths", y.events[8].Severity+" "+y.events[8].Message)

	view := y.view()
	assert.Equal(t, result.Head, view.State.Head)
	assert.Equal(t, step.Number("2"), view.State.At())
	assert.Equal(t, y.steps()[0].Forward.Checksum, view.State.Of("1").Checksum)
	assert.Equal(
		t, "1 pilot {}",
		y.query("SELECT concat_ws(' ', deployment, actor, detail) FROM vorrang.ledger WHERE seq = 2"),
	)
}

func TestAFailureNamesThePlaceAndLeavesNothing(t *testing.T) {
	cases := map[string]struct {
		files    map[string]string
		at       string
		message  string
		sqlstate string
		source   string
		caret    int
	}{
		"a statement with a position": {
			map[string]string{"1-a.sql": "CREATE TABLE berth (id int);\n\n  SELECT 'ж', missing FROM berth;"},
			"1-a.sql:3:15",
			`column "missing" does not exist`,
			"42703",
			"  SELECT 'ж', missing FROM berth;",
			15,
		},
		"one without a position": {
			map[string]string{
				"1-a.sql": "CREATE TABLE berth (id int PRIMARY KEY);\nINSERT INTO berth VALUES (1), (1);",
			},
			"1-a.sql:2:1", "duplicate key value", "23505",
			"INSERT INTO berth VALUES (1), (1);",
			1,
		},
		"a COPY of a trigger of a COPY": {
			map[string]string{
				"1-a.sql": "CREATE TABLE other (id int); CREATE TABLE berth (id int);\n" +
					"CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS " +
					"$$ BEGIN IF NEW.id = 3 THEN COPY other FROM PROGRAM 'printf \"1\\n1\\n1\\nNorth\\n\"'; END IF; RETURN NEW; " +
					"END $$;\nCREATE TRIGGER t BEFORE INSERT ON berth FOR EACH ROW EXECUTE FUNCTION f();\n" +
					"COPY berth FROM stdin;\n1\n2\n3\n4\n\\.\n",
			},
			"1-a.sql:7:1",
			"invalid input syntax for type integer",
			"22P02", "3", 1,
		},
		"a line of COPY data": {
			map[string]string{"1-a.sql": "CREATE TABLE berth (id int);\nCOPY berth FROM stdin;\n1\nNorth\n2\n\\.\n"},
			"1-a.sql:4:1",
			"invalid input syntax for type integer",
			"22P02", "North", 1,
		},
		"inside a function": {
			map[string]string{"1-a.sql": "DO $$ BEGIN\n  PERFORM 1/0;\nEND $$;"},
			"1-a.sql:1:1", "division by zero", "22012", "DO $$ BEGIN", 1,
		},
		"a deferred constraint": {
			map[string]string{
				"1-a.sql": "CREATE TABLE a (id int PRIMARY KEY);\nCREATE TABLE b (a int REFERENCES a DEFERRABLE INITIALLY " +
					"DEFERRED);\nINSERT INTO b VALUES (1);",
			},
			"1-a.sql:3:1",
			"at the end of the step's transaction: insert or update on table",
			"23503",
			"INSERT INTO b VALUES (1);",
			1,
		},
		"a check that does not hold": {
			map[string]string{
				"1-a.sql":       "CREATE TABLE berth (id int);",
				"1-a.check.sql": "SELECT true;\nSELECT count(*) = 3 FROM berth;",
			},
			"1-a.check.sql:2:1",
			"the check does not hold: it gave (false)",
			"",
			"SELECT count(*) = 3 FROM berth;",
			1,
		},
		"a check without a row": {
			map[string]string{"1-a.sql": "CREATE TABLE berth (id int);", "1-a.check.sql": "SELECT true FROM berth"},
			"1-a.check.sql:1:1", "it gave 0 rows", "", "SELECT true FROM berth", 1,
		},
		"a check that gives null": {
			map[string]string{"1-a.sql": "SELECT 1;", "1-a.check.sql": "SELECT null, 'x'"},
			"1-a.check.sql:1:1", "it gave (null, x)", "", "SELECT null, 'x'", 1,
		},
		"a script that commits": {
			map[string]string{"1-a.sql": "CREATE TABLE berth (id int); DO $$ BEGIN END $$; ROLLBACK"},
			"1-a.sql:1:50",
			"ended Vorrang's transaction by itself",
			"",
			"CREATE TABLE berth (id int); DO $$ BEGIN END $$; ROLLBACK",
			50,
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			y := newYard(t, c.files)
			result := y.promote()
			require.Equal(t, deploy.Failed, result.Outcome)
			f := result.Failure
			assert.Equal(t, c.at, fmt.Sprintf("%s:%d:%d", f.File, f.Line, f.Column))
			assert.Contains(t, f.Message, c.message)
			assert.Equal(t, c.sqlstate, f.SQLState)
			assert.Equal(t, c.source, f.Source)
			assert.Equal(t, c.caret, f.Caret)
			assert.Equal(t, "0", y.query("SELECT count(*) FROM pg_class WHERE relname IN ('berth', 'a', 'b')"))
			assert.Equal(t, ledger.StatusFailed, y.status("1"))
			assert.True(t, strings.HasSuffix(y.kinds(), "step-failed ended"), y.kinds())
		})
	}
}

func TestAFailureIsShownWithItsLineAndACaret(t *testing.T) {
	f := deploy.Failure{
		File:     "0012-a.sql",
		Line:     12,
		Column:   4,
		Source:   "\tx y",
		Caret:    4,
		Message:  "no",
		SQLState: "42601",
		Hint:     "perhaps\nyes",
	}
	assert.Equal(
		t,
		"0012-a.sql:12:4: no (SQLSTATE 42601)\n  12 | \tx y\n     | \t  ^\nhint: perhaps\n  yes\n",
		f.Text(),
	)
}

func TestAPromotionGoesOnBehindTheFailedStep(t *testing.T) {
	y := newYard(
		t,
		map[string]string{
			"1-a.sql": "CREATE TABLE a (id int)",
			"2-b.sql": "CREATE TABLE b (id nope)",
			"3-c.sql": "CREATE TABLE c (id int)",
		},
	)
	require.Equal(t, deploy.Failed, y.promote().Outcome)
	assert.Equal(
		t,
		[]ledger.Status{ledger.StatusApplied, ledger.StatusFailed, ledger.StatusPending},
		[]ledger.Status{y.status("1"), y.status("2"), y.status("3")},
	)
	y.files["2-b.sql"] = "CREATE TABLE b (id int)"
	require.Equal(t, deploy.Done, y.promote().Outcome)
	assert.Equal(t, "3", y.query("SELECT count(*) FROM pg_class WHERE relname IN ('a', 'b', 'c')"))
}

func TestAutocommitGoesOnAtTheStatementWhereItStopped(t *testing.T) {
	y := newYard(
		t,
		map[string]string{
			"1-index.sql": autocommit + "CREATE TABLE berth (id int);\nINSERT INTO berth VALUES (1), (1);\n" +
				"CREATE UNIQUE INDEX CONCURRENTLY berth_id ON berth (id);\nVACUUM berth;",
			"1-index.check.sql": "SELECT indisvalid FROM pg_index WHERE indexrelid = 'berth_id'::regclass",
		},
	)
	result := y.promote()
	require.Equal(t, deploy.Failed, result.Outcome)
	assert.Equal(t, 3, result.Failure.Statement)
	assert.Contains(t, result.Failure.Left, "the statements before number 3 of 4 took effect and stay")
	assert.Equal(t, ledger.StatusFailed, y.status("1"))
	assert.Contains(t, y.output(), "the index berth_id, left INVALID by the build that failed, was dropped")

	pgtest.Exec(t, y.url, "DELETE FROM berth; INSERT INTO berth VALUES (7)")
	require.Equal(t, deploy.Done, y.promote().Outcome)
	assert.Equal(t, "7", y.query("SELECT min(id) FROM berth"), "the first two statements did not run again")
	assert.Equal(t, ledger.StatusApplied, y.status("1"))
	assert.Equal(
		t,
		"begun begun begun failed begun begun applied",
		y.query("SELECT string_agg(action, ' ' ORDER BY seq) FROM vorrang.ledger"),
	)
}

func TestAutocommitRefusesToGoOnInAChangedScript(t *testing.T) {
	y := newYard(t, map[string]string{"1-a.sql": autocommit + "CREATE TABLE a (id int);\nCREATE TABLE b (id nope);"})
	require.Equal(t, deploy.Failed, y.promote().Outcome)
	y.files["1-a.sql"] = autocommit + "CREATE TABLE other (id int);\nCREATE TABLE b (id int);"
	result := y.promote()
	require.Equal(t, deploy.Failed, result.Outcome)
	assert.Contains(t, result.Failure.Message, "the statements before number 2, and these were changed since")
	y.files["1-a.sql"] = autocommit + "CREATE TABLE a (id int);\nCREATE TABLE b (id int);"
	require.Equal(t, deploy.Done, y.promote().Outcome, "a fixed statement behind them may differ")
}

func TestAutocommitMayControlItsTransactions(t *testing.T) {
	y := newYard(
		t,
		map[string]string{
			"1-a.sql": autocommit + "CREATE TABLE a (id int);\nBEGIN;\nINSERT INTO a VALUES (1);\nSELECT 1/0;\nCOMMIT;",
		},
	)
	result := y.promote()
	require.Equal(t, deploy.Failed, result.Outcome)
	assert.Equal(t, "0", y.query("SELECT count(*) FROM a"))
	assert.Equal(t, 2, y.view().State.Of("1").Progress().Statement, "it goes on at BEGIN")
	y.files["1-a.sql"] = autocommit + "CREATE TABLE a (id int);\nBEGIN;\nINSERT INTO a VALUES (2);\nCOMMIT;"
	require.Equal(t, deploy.Done, y.promote().Outcome)
	y.files["2-b.sql"] = autocommit + "BEGIN;\nINSERT INTO a VALUES (3);"
	result = y.promote()
	require.Equal(t, deploy.Failed, result.Outcome)
	assert.Contains(t, result.Failure.Message, "leaves its transaction open")
	assert.Equal(t, "1", y.query("SELECT count(*) FROM a"))
}

func TestALockThatIsNotGrantedIsTriedAgain(t *testing.T) {
	y := newYard(
		t,
		map[string]string{
			"1-a.sql": "CREATE TABLE a (id int)",
			"2-b.sql": "/*---\nretries: 2\nlock-timeout: 3s\n---*/\nCREATE TABLE b (id int);\nALTER TABLE a ADD COLUMN n int;",
		},
	)
	p, err := plan.Forward(y.view(), "1")
	require.NoError(t, err)
	require.Equal(t, deploy.Done, y.run(t.Context(), p).Outcome)

	blocker := pgtest.Connect(t, y.url)
	_, err = blocker.Exec(t.Context(), "BEGIN; LOCK TABLE a")
	require.NoError(t, err)
	result := y.promote()
	require.Equal(t, deploy.Failed, result.Outcome)
	assert.Equal(t, "55P03", result.Failure.SQLState)
	require.Len(t, result.Failure.Blockers, 1)
	holder := result.Failure.Blockers[0]
	assert.Equal(
		t,
		engine.Blocker{
			PID:   int32(blocker.PgConn().PID()),
			User:  "vorrang",
			State: "idle in transaction",
			Query: "BEGIN; LOCK TABLE a",
			Table: "public.a",
		},
		holder,
	)
	assert.Contains(
		t, result.Failure.Text(),
		"held by: session "+fmt.Sprint(
			holder.PID,
		)+" (user vorrang, application unknown, idle in transaction, lock on public.a): BEGIN; LOCK TABLE a",
	)
	assert.Equal(t, []time.Duration{time.Second, 2 * time.Second}, y.pauses, "the pauses grow")
	assert.Equal(t, "0", y.query("SELECT count(*) FROM pg_class WHERE relname = 'b'"))

	y.onEvent = func(e deploy.Event) {
		if e.Kind == deploy.Waiting && strings.Contains(e.Message, "not granted") {
			assert.Contains(
				t, e.Message,
				"not granted within 3s; others go first, try 2 of 3 follows in 1s; it is held by session",
			)
			require.Len(t, e.Blockers, 1)
			_, err := blocker.Exec(context.Background(), "ROLLBACK")
			assert.NoError(t, err)
		}
	}
	require.Equal(t, deploy.Done, y.promote().Outcome)
	assert.Equal(t, ledger.StatusApplied, y.status("2"))
}

func TestALostConnectionFailsCleanly(t *testing.T) {
	t.Run("a transaction is rolled back by the server", func(t *testing.T) {
		y := newYard(t, map[string]string{"1-a.sql": "CREATE TABLE a (id int);\nSELECT pg_sleep(60) AS long;"})
		y.onEvent = terminateSleeper(t, y)
		result := y.promote()
		require.Equal(t, deploy.Failed, result.Outcome)
		assert.True(t, result.Failure.Lost)
		assert.Contains(t, result.Failure.Message, "the connection to the target was lost: terminating connection")
		y.open()
		assert.Equal(t, ledger.StatusPending, y.status("1"))
		y.files["1-a.sql"], y.onEvent = "CREATE TABLE a (id int);", nil
		require.Equal(t, deploy.Done, y.promote().Outcome)
	})
	t.Run("a statement in autocommit is in doubt", func(t *testing.T) {
		y := newYard(
			t,
			map[string]string{"1-a.sql": autocommit + "CREATE TABLE a (id int);\nSELECT pg_sleep(60) AS long;"},
		)
		y.onEvent = terminateSleeper(t, y)
		result := y.promote()
		require.Equal(t, deploy.Failed, result.Outcome)
		assert.Contains(t, result.Failure.Left, "the step is in doubt")
		y.open()
		assert.Equal(t, ledger.StatusInDoubt, y.status("1"))
		assert.Equal(t, 2, y.view().State.Of("1").Progress().Statement)
	})
}

// terminateSleeper ends the session that sleeps in the yard, once it does.
func terminateSleeper(t *testing.T, y *yard) func(deploy.Event) {
	other := pgtest.Connect(t, y.url)
	var looking sync.WaitGroup
	t.Cleanup(looking.Wait) // before the connection is closed
	return func(e deploy.Event) {
		if e.Kind != deploy.Statement || e.Statement != 2 {
			return
		}
		looking.Go(func() {
			for ended := 0; ended == 0; {
				err := other.QueryRow(context.Background(), `SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity
					WHERE datname = current_database() AND query LIKE '%pg_sleep(60) AS long' AND state = 'active'
						AND pid <> pg_backend_pid()`).
					Scan(&ended)
				if !assert.NoError(t, err) {
					return
				}
			}
		})
	}
}

func TestACancelledDeploymentRollsBackItsStep(t *testing.T) {
	for cause, outcome := range map[error]deploy.Outcome{deploy.ErrCancelled: deploy.Cancelled,
		deploy.ErrStopping: deploy.Interrupted} {
		y := newYard(
			t,
			map[string]string{
				"1-a.sql": "CREATE TABLE a (id int)",
				"2-b.sql": "CREATE TABLE b (id int);\nSELECT pg_sleep(60);",
				"3-c.sql": "CREATE TABLE c (id int)",
			},
		)
		ctx, cancel := context.WithCancelCause(t.Context())
		y.onEvent = func(e deploy.Event) {
			if e.Kind == deploy.Statement && e.Statement == 2 {
				cancel(cause)
			}
		}
		p, err := plan.Forward(y.view(), "")
		require.NoError(t, err)
		assert.Equal(t, outcome, y.run(ctx, p).Outcome)
		assert.Equal(t, "a", y.query("SELECT string_agg(relname, ' ') FROM pg_class WHERE relname IN ('a', 'b', 'c')"))
		assert.Equal(t, ledger.StatusPending, y.status("2"), "nobody's fault: the step is pending, not failed")
	}
}

func TestNoStepBeginsOnceTheServiceStops(t *testing.T) {
	y := newYard(t, map[string]string{"1-a.sql": "CREATE TABLE a (id int)", "2-b.sql": "CREATE TABLE b (id int)"})
	y.onEvent = func(e deploy.Event) {
		if e.Kind == deploy.StepBegan {
			close(y.stop)
		}
	}
	assert.Equal(t, deploy.Interrupted, y.promote().Outcome)
	assert.Equal(
		t,
		[]ledger.Status{ledger.StatusApplied, ledger.StatusPending},
		[]ledger.Status{y.status("1"), y.status("2")},
	)
}

func TestWaysBackRunNewestFirst(t *testing.T) {
	y := newYard(t, map[string]string{
		"1-a.sql": "CREATE TABLE a (id int)", "1-a.back.sql": "DROP TABLE a",
		"2-b.sql": "CREATE TABLE b (id int)", "2-b.back.sql": "SELECT 1/0",
		"3-c.sql": autocommit + "CREATE TABLE c (id int)", "3-c.back.sql": "DROP TABLE c;\nVACUUM a;",
	})
	require.Equal(t, deploy.Done, y.promote().Outcome)
	result := y.rollback(3)
	require.Equal(t, deploy.Failed, result.Outcome)
	assert.Equal(t, "2-b.back.sql", result.Failure.File)
	assert.Equal(
		t,
		[]ledger.Status{ledger.StatusApplied, ledger.StatusApplied, ledger.StatusRolledBack},
		[]ledger.Status{y.status("1"), y.status("2"), y.status("3")},
	)
	y.files["2-b.back.sql"] = "DROP TABLE b"
	require.Equal(t, deploy.Done, y.rollback(2).Outcome)
	assert.Equal(t, "0", y.query("SELECT count(*) FROM pg_class WHERE relname IN ('a', 'b', 'c')"))
	require.Equal(t, deploy.Done, y.promote().Outcome, "what was rolled back can be applied again")
}

// What one step leaves in the session must not reach the next.
func TestEveryStepBeginsWithAFreshSession(t *testing.T) {
	y := newYard(t, map[string]string{
		"1-a.sql": "CREATE SCHEMA other; SET search_path = other; SET lock_timeout = '1h'; SET " +
			"standard_conforming_strings = off; CREATE TEMP TABLE left_over (id int); SET ROLE pg_read_all_data;",
		"2-b.sql": "CREATE TABLE b (id int);",
		"2-b.check.sql": `SELECT current_setting('search_path') = 'public, public', current_setting('lock_timeout') = '50ms',
			current_user = 'vorrang', to_regclass('left_over') IS NULL, 'a\' = E'a\\';`,
		"3-c.sql": autocommit + "SET search_path = other; CREATE TABLE c (id int); SET ROLE pg_read_all_data;",
		"4-d.sql": "CREATE TABLE d (id int);",
	})
	result := y.promote()
	require.Equal(t, deploy.Done, result.Outcome, "%v", result.Failure)
	assert.Equal(
		t,
		"b:public c:other d:public",
		y.query(
			"SELECT string_agg(relname || ':' || relnamespace::regnamespace, ' ' ORDER BY relname) FROM pg_class WHERE "+
				"relname IN ('b', 'c', 'd')",
		),
	)
}

func TestTheRoleOwnsWhatStepsMake(t *testing.T) {
	y := newYard(
		t,
		map[string]string{
			"1-a.sql": "CREATE TABLE a (id int)",
			"2-b.sql": autocommit + "CREATE TABLE b (id int); VACUUM b;",
		},
	)
	y.role = "owner of " + strings.ReplaceAll(y.url[strings.LastIndex(y.url, "/")+1:], "_", " ")
	pgtest.Exec(t, y.url, fmt.Sprintf("CREATE ROLE %q; GRANT CREATE ON SCHEMA public TO %q", y.role, y.role))
	result := y.promote()
	require.Equal(t, deploy.Done, result.Outcome, "%v", result.Failure)
	assert.Equal(
		t, y.role,
		y.query("SELECT string_agg(DISTINCT tableowner, ',') FROM pg_tables WHERE schemaname = 'public'"),
	)
}

func TestALongScriptTellsOfSomeFiftyStatements(t *testing.T) {
	y := newYard(t, map[string]string{"1-a.sql": strings.Repeat("SELECT 1;\n", 5000)})
	require.Equal(t, deploy.Done, y.promote().Outcome)
	assert.Len(t, y.events, 50+4)
}

func TestAFloodOfNoticesIsCutShort(t *testing.T) {
	y := newYard(
		t,
		map[string]string{
			"1-a.sql": "DO $$ BEGIN FOR i IN 1..1000 LOOP RAISE NOTICE 'wave %', i; END LOOP; END $$",
			"2-b.sql": "DO $$ BEGIN RAISE NOTICE 'calm'; END $$",
		},
	)
	require.Equal(t, deploy.Done, y.promote().Outcome)
	var output []string
	for _, e := range y.events {
		if e.Kind == deploy.Notice {
			output = append(output, e.Message)
		}
	}
	require.Len(t, output, 202)
	assert.Equal(t, []string{"wave 200", "800 more notices of this step were left out", "calm"}, output[199:])
}

// between makes a yard of steps in transactions, and does something when the second of them is done. The
// transaction of the third is open by then.
func between(t *testing.T, do func(y *yard, cancel context.CancelCauseFunc)) (*yard, deploy.Outcome) {
	y := newYard(t, map[string]string{
		"1-a.sql": "CREATE TABLE a (id int)", "2-b.sql": "CREATE TABLE b (id int)",
		"3-c.sql": "/*---\nlock-timeout: 1s\n---*/\nCREATE TABLE c AS SELECT current_setting('lock_timeout') AS set",
		"4-d.sql": autocommit + "CREATE TABLE d (id int); CREATE INDEX CONCURRENTLY ON d (id)",
		"5-e.sql": "CREATE TABLE e (id int)",
	})
	ctx, cancel := context.WithCancelCause(t.Context())
	y.onEvent = func(e deploy.Event) {
		if e.Kind == deploy.StepDone && e.Step == "2" {
			do(y, cancel)
		}
	}
	p, err := plan.Forward(y.view(), "")
	require.NoError(t, err)
	outcome := y.run(ctx, p).Outcome
	y.onEvent = nil
	return y, outcome
}

func TestTheNextTransactionIsOpenWhenAStepEnds(t *testing.T) {
	const open = "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND state = 'idle in transaction'"
	t.Run("and the next step runs in it", func(t *testing.T) {
		y, outcome := between(t, func(y *yard, _ context.CancelCauseFunc) {
			assert.Equal(t, "1", y.query(open))
			assert.False(t, y.session.InTransaction(), "nothing was begun in it")
		})
		require.Equal(t, deploy.Done, outcome)
		assert.Equal(t, "1s", y.query("SELECT set FROM c"), "with its own settings")
		assert.Equal(t, ledger.StatusApplied, y.status("5"))
	})
	t.Run("or it ends when the service stops", func(t *testing.T) {
		y, outcome := between(t, func(y *yard, _ context.CancelCauseFunc) { close(y.stop) })
		assert.Equal(t, deploy.Interrupted, outcome)
		assert.Equal(t, "0", y.query(open))
		assert.Equal(t, ledger.StatusPending, y.status("3"))
		y.stop = nil
		require.Equal(t, deploy.Done, y.promote().Outcome)
	})
	t.Run("or when the deployment is cancelled", func(t *testing.T) {
		y, outcome := between(t, func(_ *yard, cancel context.CancelCauseFunc) { cancel(deploy.ErrCancelled) })
		assert.Equal(t, deploy.Cancelled, outcome)
		y.open()
		require.Equal(t, deploy.Done, y.promote().Outcome)
	})
	t.Run("a connection that goes is told by the next step", func(t *testing.T) {
		y, outcome := between(t, func(y *yard, _ context.CancelCauseFunc) {
			y.query("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() " +
				"AND state = 'idle in transaction'")
		})
		assert.Equal(t, deploy.Failed, outcome)
		assert.Equal(t, ledger.StatusApplied, y.status("2"))
		assert.Equal(t, ledger.StatusPending, y.status("3"), "the server rolled it back")
		y.open()
		require.Equal(t, deploy.Done, y.promote().Outcome)
	})
	t.Run("what the server refuses of it is told by the next step", func(t *testing.T) {
		y := newYard(t, map[string]string{
			"1-a.sql": "CREATE TABLE a (id int)",
			"2-b.sql": "/*---\nlock-timeout: 1000h\n---*/\nCREATE TABLE b (id int)", // more ms than the server counts
		})
		result := y.promote()
		require.Equal(t, deploy.Failed, result.Outcome)
		assert.Equal(t, step.Number("2"), result.Failure.Step)
		assert.Contains(t, result.Failure.Message, "lock_timeout")
		assert.Equal(t, ledger.StatusApplied, y.status("1"))
		assert.Equal(t, ledger.StatusFailed, y.status("2"))
		assert.Equal(t, "0", y.query(open))
		y.files["2-b.sql"] = "CREATE TABLE b (id int)"
		require.Equal(t, deploy.Done, y.promote().Outcome)
	})
}

// TestWhatTheLastStepLeftIsReadOnce: who keeps what a deployment left need not read it again.
func TestWhatTheLastStepLeftIsReadOnce(t *testing.T) {
	for name, c := range map[string]struct {
		second, looks string
		left          bool
	}{
		"a table":            {"CREATE TABLE b (id int)", "before, after, last", true},
		"rows only":          {"INSERT INTO a VALUES (1)", "before, after", false},
		"a step that failed": {"CREATE TABLE b (id nothing)", "before, after", false},
	} {
		t.Run(name, func(t *testing.T) {
			y := newYard(t, map[string]string{"1-a.sql": "CREATE TABLE a (id int)", "2-b.sql": c.second})
			var looks []string
			y.look = func(ctx context.Context, last bool) (schema.Schema, error) {
				looks = append(looks, map[bool]string{true: "last", false: "after"}[last])
				if len(looks) == 1 {
					looks[0] = "before"
				}
				return y.session.Snapshot(ctx, nil)
			}
			y.promote()
			assert.Equal(t, c.looks, strings.Join(looks, ", "))
			require.Equal(t, c.left, y.left != nil)
			if y.left != nil {
				now, err := y.session.Snapshot(t.Context(), nil)
				require.NoError(t, err)
				assert.Empty(t, schema.Compare(now, *y.left))
			}
		})
	}
}
