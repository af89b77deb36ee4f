// Package enginetest is what every engine has to hold, tried on its real server.
//
// An engine's test calls Main from TestMain and Run from one test, with a Harness
// that knows how to make an empty database and how to reach it without Vorrang. What
// a session cannot do, the suite asks nothing about; what the engine's traits
// promise, it does.
package enginetest

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/internal/pgtest"
)

// Harness is an engine under test. All fields but Cut, Oracle and Leaves must be set.
type Harness struct {
	Engine engine.Engine
	// Fresh makes an empty database that the test may break, and gives its URL.
	Fresh func(t testing.TB) string
	// Exec runs SQL as another program would, and Query gives one value as text; a
	// truth is "true" or "1".
	Exec  func(t testing.TB, url, sql string) error
	Query func(t testing.TB, url, sql string) string
	// Hold runs a statement in a transaction of another program, which stays open until
	// release.
	Hold func(t testing.TB, url, sql string) (release func())
	// Backup copies a database; restore puts the copy in its place, as a DBA would.
	Backup func(t testing.TB, url string) (restore func())
	// Cut breaks every connection that Vorrang has to a database. It is nil for an
	// engine without a server.
	Cut func(t testing.TB, url string)

	// Oracle is what another program tells of a schema; the same for equal ones. It may
	// be nil.
	Oracle func(t testing.TB, url string) string

	Ledger   string // the ledger's table in SQL
	Backfill string // a statement of mode batches that fills vessel.draught_m from draught_cm
	// Leaves are scripts that leave something in their session, each with a query that
	// tells that it is gone.
	Leaves map[string]Left
}

// Left is a script that leaves something in its session.
type Left struct{ Script, Gone string }

// Run runs the whole suite.
func Run(t *testing.T, h Harness) {
	for name, test := range map[string]func(*testing.T, Harness){
		"Ledger": ledgers, "Lock": locks, "Steps": steps, "Sessions": sessions, "Existing": existing, "Snapshot": snapshots,
		"Empty": empties, "Rests": rests,
		"Evidence": looks, "Drafts": drafts, "Kinds": kinds, "Backup": backups, "Probe": probes, "Scratch": scratches,
		"Rows": rows, "Review": reviews, "Announcements": announcements, "Crashes": crashes, "Cuts": cuts,
	} {
		t.Run(name, func(t *testing.T) { t.Parallel(); test(t, h) })
	}
}

// yard is a database with a folder of steps beside it. The core deploys to it
// without any service.
type yard struct {
	Harness
	t       testing.TB
	url     string
	files   map[string]string
	session engine.Session
	wrap    func(engine.Session) engine.Steps // what stands between the runner and the session; nil for nothing
	runs    int
	onEvent func(deploy.Event)

	ctx  context.Context // of deployments; nil for the test's
	stop chan struct{}   // nil for one that is never stopped
}

func newYard(t testing.TB, h Harness, files map[string]string) *yard {
	y := &yard{Harness: h, t: t, url: h.Fresh(t), files: files}
	y.open()
	require.NoError(t, y.session.CreateLedger(t.Context()))
	return y
}

// connect opens a session that ends with the test.
func (h Harness) connect(t testing.TB, url string) engine.Session {
	session, err := h.Engine.Open(t.Context(), url, "vorrang enginetest")
	require.NoError(t, err)
	t.Cleanup(session.Close)
	return session
}

// open takes the target's lock with a new session. What a connection that was cut had
// begun may still be ending.
func (y *yard) open() {
	y.t.Helper()
	if y.session != nil {
		y.session.Close()
	}
	y.session = y.connect(y.t, y.url)
	require.Eventually(
		y.t,
		func() bool { return y.session.Lock(y.t.Context()) == nil },
		10*time.Second, 10*time.Millisecond,
	)
}

// catalogue reads the folder.
func (y *yard) catalogue() (steps []step.Step, catalogue []plan.Step) {
	folder := fstest.MapFS{}
	for name, text := range y.files {
		folder[name] = &fstest.MapFile{Data: []byte(text)}
	}
	steps, err := step.ReadDir(folder)
	require.NoError(y.t, err)
	for _, s := range steps {
		catalogue = append(catalogue, plan.Of(s))
	}
	return steps, catalogue
}

func (y *yard) view() plan.View {
	entries, _, err := y.session.ReadLedger(y.t.Context())
	require.NoError(y.t, err)
	require.NoError(y.t, ledger.Verify(entries), "the chain holds after whatever happened")
	_, catalogue := y.catalogue()
	return plan.Look("staging", catalogue, ledger.Fold(entries))
}

func (y *yard) run(p plan.Plan) deploy.Result {
	texts := map[step.Checksum][]byte{}
	all, _ := y.catalogue()
	for _, s := range all {
		for _, f := range []*step.File{&s.Forward, s.Back, s.Check} {
			if f != nil {
				texts[f.Checksum] = f.Text()
			}
		}
	}
	y.runs++
	target := engine.Steps(y.session)
	if y.wrap != nil {
		target = y.wrap(y.session)
	}
	runner := deploy.Runner{
		Target:     target,
		Dialect:    y.Engine.Dialect(),
		Now:        time.Now,
		Deployment: fmt.Sprint(y.runs),
		Actor:      "pilot",
		Defaults:   engine.Settings{LockTimeout: 200 * time.Millisecond},
		Texts: func(_ context.Context, c step.Checksum) ([]byte, error) {
			if text, found := texts[c]; found {
				return text, nil
			}
			return nil, fmt.Errorf("no text %s", c)
		},
		Pause: func(context.Context, time.Duration) {},
		Stop:  y.stop,
		Emit: func(e deploy.Event) {
			if y.onEvent != nil {
				y.onEvent(e)
			}
		},
	}
	ctx := y.ctx
	if ctx == nil {
		ctx = y.t.Context()
	}
	return runner.Run(ctx, y.view().State.Head, p)
}

func (y *yard) promote() deploy.Result {
	y.t.Helper()
	p, err := plan.Forward(y.view(), "")
	require.NoError(y.t, err)
	return y.run(p)
}

// promoted promotes, and fails the test where that does.
func (y *yard) promoted() {
	y.t.Helper()
	result := y.promote()
	require.Equal(y.t, deploy.Done, result.Outcome, "%v", result.Failure)
}

func (y *yard) rollback(to step.Number) deploy.Result {
	y.t.Helper()
	_, catalogue := y.catalogue()
	p, err := plan.Back(y.view(), plan.Way{To: to}, func(number step.Number, _ step.Checksum) (plan.Step, bool) {
		at := slices.IndexFunc(catalogue, func(s plan.Step) bool { return s.Number == number })
		return catalogue[max(at, 0)], at >= 0
	})
	require.NoError(y.t, err)
	return y.run(p)
}

func (y *yard) status(number step.Number) ledger.Status { return y.view().State.Of(number).Status }

func (y *yard) query(sql string) string { return y.Query(y.t, y.url, sql) }

func (y *yard) exec(sql string) { require.NoError(y.t, y.Exec(y.t, y.url, sql)) }

// statement is one statement, as the engine cuts it.
func (h Harness) statement(t testing.TB, sql string) (engine.Dialect, []byte) {
	t.Helper()
	cut, err := h.Engine.Dialect().Cut([]byte(sql))
	require.NoError(t, err)
	require.Len(t, cut, 1)
	return h.Engine.Dialect(), cut[0].SQL
}

const autocommit = "/*---\nmode: autocommit\n---*/\n"

// voyage is a folder with a step of every mode. Each leaves rows that would show if
// it took effect twice.
func (h Harness) voyage() map[string]string {
	rows := make([]string, 250)
	for i := range rows {
		rows[i] = fmt.Sprintf("(%d, %d)", i+1, 401+i)
	}
	return map[string]string{
		"1-create-vessel.sql": "CREATE TABLE vessel (id INTEGER NOT NULL PRIMARY KEY, draught_cm INTEGER, draught_m " +
			"NUMERIC(8, 2));\n" +
			"INSERT INTO vessel (id, draught_cm) VALUES " + strings.Join(rows, ", ") + ";",
		"1-create-vessel.back.sql": "DROP TABLE vessel;",
		"2-index-berth.sql": autocommit + "CREATE TABLE berth (name VARCHAR(40));\n" +
			"CREATE INDEX berth_name ON berth (name);\nINSERT INTO berth VALUES ('North quay');",
		"2-index-berth.check.sql":     "SELECT count(*) = 1 FROM berth;",
		"2-index-berth.back.sql":      "DROP TABLE berth;",
		"3-migrate-draught.sql":       "/*---\nmode: batches\nbatch-size: 100\npause: 1ms\n---*/\n" + h.Backfill + ";",
		"3-migrate-draught.check.sql": "SELECT count(*) = 0 FROM vessel WHERE draught_m IS NULL;",
		"3-migrate-draught.back.sql":  "UPDATE vessel SET draught_m = NULL;",
		"4-create-pilot.sql":          "CREATE TABLE pilot (name VARCHAR(40));\nINSERT INTO pilot VALUES ('A. Tern');",
		"4-create-pilot.check.sql":    "SELECT count(*) = 1 FROM pilot;",
		"4-create-pilot.back.sql":     "DROP TABLE pilot;",
		"5-create-tide.sql":           autocommit + "CREATE TABLE tide (metres NUMERIC(4, 2));",
		"5-create-tide.back.sql":      "DROP TABLE tide;",
		"6-create-dues.sql":           autocommit + "CREATE TABLE dues (cents INTEGER);\nINSERT INTO dues VALUES (12500);",
		"6-create-dues.back.sql":      "DROP TABLE dues;",
	}
}

// haul is what a voyage left.
func (y *yard) haul() string {
	ask := func(name, sql string) string { return name + " " + y.query(sql) }
	applied := []string{"applied"}
	for _, standing := range y.view().Steps {
		if standing.State.Status == ledger.StatusApplied {
			applied = append(applied, string(standing.Step.Number))
		}
	}
	return strings.Join(
		[]string{
			ask("vessels", "SELECT count(*) FROM vessel"),
			ask("filled", "SELECT count(*) FROM vessel WHERE round(draught_m * 100) = draught_cm"),
			ask("berths", "SELECT count(*) FROM berth"),
			ask("pilots", "SELECT count(*) FROM pilot"),
			ask("tides", "SELECT count(*) FROM tide"),
			ask("dues", "SELECT count(*) FROM dues"),
			strings.Join(applied, " "),
		},
		", ",
	)
}

const undisturbed = "vessels 250, filled 250, berths 1, pilots 1, tides 0, dues 1, applied 1 2 3 4 5 6"

// WithHistory is a database in which some steps ran, and one failed.
func WithHistory(t testing.TB, h Harness) (url string) {
	y := newYard(t, h, h.voyage())
	y.promoted()
	y.files["7-fail.sql"] = "INSERT INTO nowhere VALUES ('nö');"
	require.Equal(t, deploy.Failed, y.promote().Outcome)
	y.session.Close()
	return y.url
}

// Documented is the first block of docs/engines.md in a language.
func Documented(t testing.TB, language string) string {
	text, err := os.ReadFile(filepath.Join(pgtest.Root(), "docs", "engines.md"))
	require.NoError(t, err)
	_, rest, found := strings.Cut(string(text), "\n```"+language+"\n")
	require.True(t, found)
	block, _, _ := strings.Cut(rest, "\n```")
	return block
}
