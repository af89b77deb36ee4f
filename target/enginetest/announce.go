package enginetest

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/step"
)

// quays are steps of which each needs a begun row, and little else.
func quays() map[string]string {
	return map[string]string{
		"1-a.sql": autocommit + "CREATE TABLE a (id INTEGER);",
		"2-b.sql": autocommit + "CREATE TABLE b (id INTEGER);",
		"3-c.sql": autocommit + "CREATE TABLE c (id INTEGER);\nCREATE INDEX c_id ON c (id);",
		"4-d.sql": autocommit + "CREATE TABLE d (id INTEGER);",
		"5-e.sql": autocommit + "INSERT INTO d VALUES (1);",
	}
}

// announcements: a step's begun row is committed with the end of the step before it. Where a
// deployment is to end between the two, the step has begun by the ledger: it runs,
// or it is said that nothing of it was.
func announcements(t *testing.T, h Harness) {
	create, err := h.Engine.Dialect().Cut([]byte("CREATE TABLE a (id INTEGER);"))
	require.NoError(t, err)
	whole := h.Engine.Dialect().Whole(create[0])

	t.Run("what is committed together", func(t *testing.T) {
		y := newYard(t, h, quays())
		var rows []string
		y.wrap = func(s engine.Session) engine.Steps {
			return &tripwire{Steps: s, strike: func(_ int, call string) {
				if what, wrote := strings.CutPrefix(call, "after commit of "); wrote {
					rows = append(rows, what)
				} else if what, wrote := strings.CutPrefix(call, "after row "); wrote {
					rows = append(rows, what)
				}
			}}
		}
		y.promoted()
		want := "begun 1 | applied 1 | begun 2 | applied 2 and begun 3 | begun 3 | applied 3 and begun 4 | applied 4 | begun 5 | applied 5"
		if !whole { // nobody could tell afterwards whether it began
			want = "begun 1 | applied 1 | begun 2 | applied 2 | begun 3 | begun 3 | applied 3 | begun 4 | applied 4 | begun 5 | applied 5"
		}
		assert.Equal(t, want, strings.Join(rows, " | "))
	})
	if !whole {
		return
	}
	// ended promotes, and ends the deployment when its second step is done.
	ended := func(t *testing.T, end func(*yard, context.CancelCauseFunc)) (*yard, deploy.Outcome) {
		y := newYard(t, h, quays())
		ctx, cancel := context.WithCancelCause(t.Context())
		y.ctx, y.stop = ctx, make(chan struct{})
		y.onEvent = func(e deploy.Event) {
			if e.Kind == deploy.StepDone && e.Step == "2" {
				end(y, cancel)
			}
		}
		outcome := y.promote().Outcome
		y.ctx, y.stop, y.onEvent = nil, nil, nil
		return y, outcome
	}
	t.Run("stopped", func(t *testing.T) {
		y, outcome := ended(t, func(y *yard, _ context.CancelCauseFunc) { close(y.stop) })
		assert.Equal(t, deploy.Interrupted, outcome)
		assert.Equal(t, ledger.StatusApplied, y.status("3"))
		assert.Equal(t, ledger.StatusPending, y.status("4"), "and nothing was announced any more")
		y.promoted()
	})
	t.Run("cancelled", func(t *testing.T) {
		y, outcome := ended(t, func(_ *yard, cancel context.CancelCauseFunc) { cancel(deploy.ErrCancelled) })
		assert.Equal(t, deploy.Cancelled, outcome)
		assert.Equal(t, ledger.StatusFailed, y.status("3"))
		assert.Equal(t, "0", y.query("SELECT (SELECT count(*) FROM a) + (SELECT count(*) FROM b)"), "what was done before stays")
		y.promoted()
		assert.Equal(t, ledger.StatusApplied, y.status("5"), "nothing stands in the way of the next")
	})
	t.Run("a statement that fails", func(t *testing.T) {
		y := newYard(t, h, quays())
		y.files["3-c.sql"] = autocommit + "CREATE TABLE b (id INTEGER);"
		result := y.promote()
		require.Equal(t, deploy.Failed, result.Outcome)
		assert.Equal(t, step.Number("3"), result.Failure.Step)
		assert.Equal(t, "nothing: the step's first statement failed", result.Failure.Left)
		assert.Equal(t, ledger.StatusFailed, y.status("3"))
	})
	t.Run("a check before it that does not hold", func(t *testing.T) {
		y := newYard(t, h, quays())
		y.files["2-b.check.sql"] = "SELECT 1 = 2;"
		require.Equal(t, deploy.Failed, y.promote().Outcome)
		assert.Equal(t, ledger.StatusPending, y.status("3"), "it never began")
		y.files["2-b.check.sql"] = "SELECT 1 = 1;"
		y.promoted()
	})
	t.Run("a connection that goes", func(t *testing.T) {
		if h.Cut == nil {
			t.Skip("the engine has no server")
		}
		y := newYard(t, h, quays())
		y.onEvent = func(e deploy.Event) {
			if e.Kind == deploy.StepDone && e.Step == "2" {
				h.Cut(t, y.url)
			}
		}
		result := y.promote()
		require.Equal(t, deploy.Failed, result.Outcome)
		assert.True(t, result.Failure.Lost)
		assert.Equal(t, step.Number("3"), result.Failure.Step)
		y.onEvent = nil
		y.open()
		standing, _ := y.view().Find("3")
		require.True(t, standing.State.Doubtful(), "it has begun")
		assert.Equal(t, byCatalog, y.settle(standing))
		y.promoted()
	})
}
