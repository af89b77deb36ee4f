package rehearsal_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/rehearsal"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/target/sqlite"
)

// pair is a step's forward script and its way back; no way back if that is empty.
type pair struct{ forward, back string }

// rehearse rehearses steps on an empty file of SQLite, which needs no server. Each step takes as long as its deployment
// says; by the stage's own clock a minute goes by whenever it is asked.
func rehearse(t *testing.T, ctx context.Context, steps ...pair) (rehearsal.Result, error) {
	kind := sqlite.Engine{Folder: t.TempDir()}
	require.NoError(t, os.WriteFile(filepath.Join(kind.Folder, "port.db"), nil, 0o600))
	scratch, err := kind.NewScratch(t.Context(), "sqlite:port.db", "", true)
	require.NoError(t, err)
	t.Cleanup(scratch.Close)
	require.NoError(t, scratch.CreateLedger(t.Context()))
	texts := map[step.Checksum][]byte{}
	file := func(text string) plan.Text {
		texts[step.Sum([]byte(text))] = []byte(text)
		return plan.Text{Name: "x.sql", Checksum: step.Sum([]byte(text))}
	}
	p := plan.Plan{Direction: ledger.Forward}
	for i, s := range steps {
		known := plan.Step{
			Number:  step.Number(fmt.Sprint(i + 1)),
			Slug:    "step",
			Forward: file(s.forward),
			Options: step.Options{Mode: step.Transaction},
		}
		if s.back != "" {
			back := file(s.back)
			known.Back = &back
		}
		p.Actions = append(p.Actions, plan.Action{Direction: ledger.Forward, Step: known})
	}
	now := time.Date(2026, 11, 26, 6, 0, 0, 0, time.UTC)
	every := func(d time.Duration) func() time.Time { return func() time.Time { now = now.Add(d); return now } }
	stage := rehearsal.Stage{
		Look: func(ctx context.Context) (schema.Schema, error) { return scratch.Snapshot(ctx, nil) },
		Now:  every(time.Minute),
		Runner: &deploy.Runner{
			Target: scratch, Dialect: kind.Dialect(), Emit: func(deploy.Event) {}, Now: every(time.Millisecond),
			Pause:      func(context.Context, time.Duration) {},
			Texts:      func(_ context.Context, c step.Checksum) ([]byte, error) { return texts[c], nil },
			Deployment: "rehearsal", Actor: "pilot", Defaults: engine.Settings{LockTimeout: time.Second},
		},
	}
	return stage.Run(ctx, p)
}

const (
	berth, noBerth = "CREATE TABLE berth (id INTEGER PRIMARY KEY);", "DROP TABLE berth;"
	name           = "ALTER TABLE berth ADD COLUMN name TEXT; CREATE INDEX berth_name ON berth (name);"
	noName         = "DROP INDEX berth_name; ALTER TABLE berth DROP COLUMN name;"
)

func TestARehearsal(t *testing.T) {
	for what, c := range map[string]struct {
		steps []pair
		why   string // empty where it passes
		ways  []rehearsal.WayBack
		notes string
	}{
		"all of it goes there, back and there": {
			[]pair{{berth, noBerth}, {name, noName}}, "",
			[]rehearsal.WayBack{rehearsal.Complete, rehearsal.Complete}, "every way back leaves what was there before",
		},
		"a step has no way back": {
			[]pair{{berth, noBerth}, {name, ""}, {"CREATE TABLE tide (id INTEGER);", "DROP TABLE tide;"}}, "",
			[]rehearsal.WayBack{rehearsal.Untried, rehearsal.Missing, rehearsal.Complete}, "step 2 has no way back, so those " +
				"before it were not tried",
		},
		"a way back forgets an index": {
			[]pair{{berth, noBerth}, {name, "DROP INDEX berth_name;"}}, "the way back of step 2 is incomplete: it leaves " +
				"another schema than was there before: added column",
			[]rehearsal.WayBack{rehearsal.Untried, rehearsal.Incomplete}, "0 of 2 ways back were tried",
		},
		"a way back fails": {
			[]pair{{berth, "DROP TABLE quay;"}}, "the way back of step 1 fails: no such table: quay",
			[]rehearsal.WayBack{rehearsal.Failed}, "0 of 1 ways back were tried",
		},
		"a step fails": {
			[]pair{{berth, noBerth}, {"DROP TABLE quay;", ""}}, "step 2 fails: no such table: quay",
			[]rehearsal.WayBack{rehearsal.Untried, rehearsal.Untried}, "0 of 2 ways back were tried",
		},
		"it does not go forward a second time": {
			[]pair{{"CREATE TABLE times (n INTEGER PRIMARY KEY);", ""}, {"INSERT INTO times VALUES (1);", "SELECT 1;"}},
			"step 2 fails: UNIQUE constraint failed: times.n",
			[]rehearsal.WayBack{rehearsal.Missing, rehearsal.Complete}, "step 1 has no way back, so those before it " +
				"were not tried",
		},
	} {
		t.Run(what, func(t *testing.T) {
			r, err := rehearse(t, t.Context(), c.steps...)
			require.NoError(t, err)
			assert.Equal(t, c.why == "", r.Passed)
			assert.Contains(t, r.Why, c.why)
			var ways []rehearsal.WayBack
			for _, s := range r.Steps {
				ways = append(ways, s.WayBack)
			}
			assert.Equal(t, c.ways, ways)
			assert.Equal(t, c.notes, r.WaysBack())
			if r.Passed {
				assert.Positive(t, r.Steps[0].ForwardMS)
				assert.Less(t, r.Steps[0].ForwardMS, time.Minute.Milliseconds())
			}
		})
	}
}

// Whoever gives up gets no result that could be taken for one.
func TestARehearsalThatIsGivenUpHasNotPassed(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	r, err := rehearse(t, ctx, pair{berth, noBerth})
	require.ErrorIs(t, err, context.Canceled)
	assert.False(t, r.Passed)
}
