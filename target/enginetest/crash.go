package enginetest

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/internal/pgtest"
)

// Every call of a deployment on its session is a point at which the process may be
// killed, before it and after it. The test's own program is started again for each,
// deploys, and kills itself there: nothing is put away, as in a real crash.

const struckURL, struckAt = "VORRANG_ENGINETEST_URL", "VORRANG_ENGINETEST_AT"

// Struck is how a test's program runs when it was started to be killed. Call it from
// a test of its own, which the suite starts by name: TestStruck.
func Struck(t *testing.T, h Harness) {
	at, err := strconv.Atoi(os.Getenv(struckAt))
	if err != nil {
		t.Skip("the suite starts it")
	}
	y := &yard{Harness: h, t: t, url: os.Getenv(struckURL), files: h.voyage()}
	y.open()
	y.wrap = func(s engine.Session) engine.Steps {
		return &tripwire{Steps: s, strike: func(point int, _ string) {
			if point == at {
				_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
				select {} // until it comes
			}
		}}
	}
	y.promote()
}

// tripwire counts the calls of a deployment. Odd points stand before a call, even ones
// after it.
type tripwire struct {
	engine.Steps
	point  int
	strike func(point int, call string)
}

func (w *tripwire) around(call string, do func() error) error {
	w.point++
	w.strike(w.point, "before "+call)
	err := do()
	w.point++
	w.strike(w.point, "after "+call)
	return err
}

func (w *tripwire) Begin(ctx context.Context, s engine.Settings) error {
	return w.around("begin", func() error { return w.Steps.Begin(ctx, s) })
}

func (w *tripwire) Exec(ctx context.Context, s sqltext.Statement) (rows int64, err error) {
	err = w.around(evidence.FirstWords(s.SQL), func() error { rows, err = w.Steps.Exec(ctx, s); return err })
	return rows, err
}

func (w *tripwire) Commit(ctx context.Context, entries ...ledger.Entry) error {
	what, join := "commit", " of "
	for _, e := range entries {
		what += join + string(e.Action) + " " + string(e.Step)
		join = " and "
	}
	return w.around(what, func() error { return w.Steps.Commit(ctx, entries...) })
}

func (w *tripwire) Append(ctx context.Context, e ledger.Entry) error {
	return w.around("row "+string(e.Action)+" "+string(e.Step), func() error { return w.Steps.Append(ctx, e) })
}

// Expect passes on what a session can make use of.
func (w *tripwire) Expect(next engine.Settings) {
	if expecter, can := w.Steps.(engine.Expecter); can {
		expecter.Expect(next)
	}
}

// points are those of an undisturbed deployment.
func points(t *testing.T, h Harness) (calls []string) {
	y := newYard(t, h, h.voyage())
	y.wrap = func(s engine.Session) engine.Steps {
		return &tripwire{Steps: s, strike: func(_ int, call string) { calls = append(calls, call) }}
	}
	y.promoted()
	require.Equal(t, undisturbed, y.haul())
	return calls
}

// What became of a deployment that was struck, for the table in docs/reliability.md.
const (
	goesOn    = "goes on by itself"
	byCatalog = "settled by the catalog"
	byHand    = "in doubt, settled by hand"
)

func crashes(t *testing.T, h Harness) {
	calls := points(t, h)
	require.Greater(t, len(calls), 30, "there is something to strike at")
	became := make([]string, len(calls))
	t.Run("each", func(t *testing.T) {
		for i, call := range calls {
			t.Run(fmt.Sprintf("%d %s", i+1, call), func(t *testing.T) {
				t.Parallel()
				y := newYard(t, h, h.voyage())
				y.session.Close()
				child := exec.CommandContext(t.Context(), os.Args[0], "-test.run=^TestStruck$")
				child.Env = append(os.Environ(), struckURL+"="+y.url, struckAt+"="+strconv.Itoa(i+1))
				output, err := child.CombinedOutput()
				require.ErrorContains(t, err, "killed", "%s", output)
				y.open()
				became[i] = y.toItsEnd()
			})
		}
	})
	if t.Failed() {
		return
	}
	var table strings.Builder
	fmt.Fprintf(&table, "| %s: killed at | before it | after it |\n|---|---|---|\n", h.Engine.Traits().Server)
	seen := map[string]bool{}
	for i := 0; i+1 < len(calls); i += 2 {
		row := fmt.Sprintf("| %s | %s | %s |\n", strings.TrimPrefix(calls[i], "before "), became[i], became[i+1])
		if !seen[row] { // several batches are alike
			table.WriteString(row)
		}
		seen[row] = true
	}
	document(t, "the crash matrix of "+h.Engine.Name(), table.String())
}

var update = flag.Bool("update-docs", false, "write the tables into docs/reliability.md")

// document holds a table against the one in docs/reliability.md.
func document(t *testing.T, name, table string) {
	opens, closes := "<!-- "+name+"; written by its test -->\n", "<!-- end -->"
	file := filepath.Join(pgtest.Root(), "docs", "reliability.md")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(text), opens)
	_, after, closed := strings.Cut(rest, closes)
	require.True(t, found && closed, "docs/reliability.md has a place for %s", name)
	whole := before + opens + table + closes + after
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(whole), 0o644))
		return
	}
	assert.Equal(t, whole, string(text), "run: go test ./target/... -run TestEngine/Crashes -update-docs")
}

// cuts: the connection goes at each point, and the process lives.
func cuts(t *testing.T, h Harness) {
	if h.Cut == nil {
		t.Skip("the engine has no server")
	}
	calls := points(t, h)
	for i, call := range calls {
		t.Run(fmt.Sprintf("%d %s", i+1, call), func(t *testing.T) {
			y := newYard(t, h, h.voyage())
			y.wrap = func(s engine.Session) engine.Steps {
				return &tripwire{Steps: s, strike: func(point int, _ string) {
					if point == i+1 {
						h.Cut(t, y.url)
					}
				}}
			}
			result := y.promote()
			if i+1 < len(calls) {
				require.Equal(t, deploy.Failed, result.Outcome)
				assert.True(t, result.Failure.Lost, "it says that the connection is gone: %s", result.Failure.Message)
			}
			y.wrap = nil
			y.open()
			y.toItsEnd()
		})
	}
}

// toItsEnd promotes until nothing is left to do, and says how what was in doubt was
// settled.
func (y *yard) toItsEnd() string {
	y.t.Helper()
	became := goesOn
	for range 4 {
		for _, standing := range y.view().Steps {
			if standing.State.Doubtful() {
				became = y.settle(standing)
			}
		}
		if p, err := plan.Forward(y.view(), ""); err == nil && len(p.Actions) == 0 {
			break
		}
		y.promoted()
	}
	assert.Equal(y.t, undisturbed, y.haul(), "as after an undisturbed run")
	return became
}

// settle says what became of a statement in doubt: by what was noted before it began,
// and by a look at the rows where that tells nothing.
func (y *yard) settle(standing plan.Standing) (how string) {
	progress := standing.State.Progress()
	all, _ := y.catalogue()
	at := slices.IndexFunc(all, func(s step.Step) bool { return s.Number == standing.Step.Number })
	statements, err := y.Engine.Dialect().Cut(all[at].Forward.Text())
	require.NoError(y.t, err)
	began := statements[progress.Statement-1]
	objects := y.Engine.Dialect().Objects(statements, progress.Statement, progress.Statement).Objects
	seen, _, err := y.session.Peek(y.t.Context(), engine.Settings{}, objects, nil)
	require.NoError(y.t, err)
	verdict, why := evidence.JudgeWhole(evidence.Evidence{Observations: seen}, progress.Before)
	how = byCatalog
	if verdict == evidence.Unclear {
		require.False(y.t, y.Engine.Dialect().Whole(began), "nothing of the kind needs a hand: %s", why)
		how, verdict = byHand, evidence.NoEffect
		switch words := strings.Fields(string(began.SQL)); words[0] {
		case "INSERT":
			if y.query("SELECT count(*) FROM "+words[2]) != "0" {
				verdict = evidence.TookEffect
			}
		default:
			if seen[0].Right() {
				verdict = evidence.TookEffect
			}
		}
	}
	detail := ledger.Detail{
		As:        ledger.SettledNotApplied,
		Statement: progress.Statement,
		Of:        progress.Of,
		Mode:      step.Autocommit,
		Reason:    "looked",
	}
	if verdict == evidence.TookEffect {
		detail.As = ledger.SettledApplied
		if progress.Statement < progress.Of {
			var sum sqltext.Sum
			for _, s := range statements[:progress.Statement] {
				sum.Add(s)
			}
			detail.Next, detail.Done = progress.Statement+1, sum.Total()
		}
	}
	e := y.view().State.Head.Next(
		ledger.Entry{
			Action:   ledger.Settled,
			Step:     standing.Step.Number,
			Slug:     standing.State.Slug,
			Checksum: standing.State.Checksum,
			Actor:    "keeper",
			Detail:   detail.JSON(),
		},
		standing.State.At,
	)
	require.NoError(y.t, y.session.Append(y.t.Context(), e))
	return how
}
