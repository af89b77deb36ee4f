package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

// between lets something happen after the gate has answered and before the
// first statement: the deployment cannot be recorded meanwhile.
func between(
	t *testing.T, w *servicetest.World, promote func() (*api.Promoted, error), happens func(),
) *api.Deployment {
	ctx := t.Context()
	other := pgtest.Connect(t, w.Records)
	hold, err := other.Begin(ctx)
	require.NoError(t, err)
	_, err = hold.Exec(ctx, "LOCK TABLE records.deployment IN EXCLUSIVE MODE")
	require.NoError(t, err)
	type answer struct {
		promoted *api.Promoted
		err      error
	}
	begun := make(chan answer, 1)
	go func() {
		promoted, err := promote()
		begun <- answer{promoted, err}
	}()
	watch := pgtest.Connect(t, w.Records)
	require.Eventually(t, func() bool {
		var waits bool
		return watch.QueryRow(ctx,
			`SELECT EXISTS (SELECT FROM pg_locks WHERE relation = 'records.deployment'::regclass AND NOT granted)`).
			Scan(&waits) ==
			nil &&
			waits
	}, 20*time.Second, 10*time.Millisecond, "the gate has answered")
	happens()
	require.NoError(t, hold.Commit(ctx))
	got := <-begun
	require.NoError(t, got.err)
	return w.Ended(got.promoted)
}

func TestAChangeBetweenTheGateAndTheFirstStatementIsCaught(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	releaser, approver := w.As("l.berg", "releaser@harbour"), w.As("p.holm", "approver@harbour")
	ask(t, w, "previous-environment: not-asked, approvals: 1")
	w.Submitted(
		map[string]string{"1-a.sql": "CREATE TABLE public.a (id int)", "2-b.sql": "CREATE TABLE public.b (id int)"},
	)
	cut(t, w, "2026.11", "")
	must(approver.Approve(ctx, "harbour", "production", "2026.11", ""))
	sealed := func() (*api.Promoted, error) {
		return releaser.Promote(ctx, "harbour", "production", client.Promotion{Release: "2026.11"})
	}
	for _, c := range []struct {
		name    string
		happens func()
		message string
		repair  func()
	}{
		{"an approval withdrawn", func() { must(approver.WithdrawApproval(ctx, "harbour", "production", "2026.11")) },
			"1 approval of release 2026.11 is asked, and 0 are given",
			func() { must(approver.Approve(ctx, "harbour", "production", "2026.11", "")) }},
		{"a freeze set", func() {
			must(w.Freeze(ctx, "harbour", "production", time.Time{}, time.Now().Add(time.Hour), "a regatta"))
		}, "production is frozen until",
			func() { must(w.Thaw(ctx, "harbour", "production", "over")) }},
		{"the gate changed", func() { ask(t, w, "previous-environment: not-asked, approvals: 2") },
			"2 approvals of release 2026.11 are asked, and 1 is given",
			func() { ask(t, w, "previous-environment: not-asked, approvals: 1") }},
		{"the ledger touched", func() {
			pgtest.Exec(t, w.URLs["production"],
				`CREATE SCHEMA IF NOT EXISTS vorrang; INSERT INTO vorrang.ledger
					VALUES (1, now(), 'applied', '1', 'a', 'x', '', 'eve', 0, '{}', repeat('0', 64), 'forged')`)
		}, "the ledger's chain is broken", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			ended := between(t, w, sealed, c.happens)
			assert.Equal(t, deploy.Cancelled, ended.Outcome)
			require.NotNil(t, ended.Failure)
			assert.Contains(t, ended.Failure.Message, "the gate closed before the first statement: ")
			assert.Contains(t, ended.Failure.Message, c.message)
			assert.NotEmpty(t, holds(ended.Gate), "what the gate said then is kept with the deployment")
			assert.Equal(
				t, "0",
				pgtest.Query(t, w.URLs["production"], "SELECT count(*) FROM pg_class WHERE relname IN ('a', 'b')"),
				"nothing ran",
			)
			if c.repair != nil {
				c.repair()
			}
		})
	}
}

func TestAnEditBetweenTheGateAndTheFirstStatementIsCaught(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.a (id int)"})
	ended := between(
		t, w,
		func() (*api.Promoted, error) { return w.Promote(ctx, "harbour", "staging", client.Promotion{}) },
		func() { w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.a (id bigint)"}) },
	)
	assert.Equal(t, deploy.Cancelled, ended.Outcome)
	assert.Contains(t, ended.Failure.Message, "the plan changed before the first statement")
	ended = between(
		t, w,
		func() (*api.Promoted, error) { return w.Promote(ctx, "harbour", "staging", client.Promotion{}) },
		func() { w.Submitted(map[string]string{"2-b.sql": "CREATE TABLE public.b (id int)"}) },
	)
	assert.Equal(t, deploy.Done, ended.Outcome, "a step that came later waits for its own deployment")
	assert.Len(t, ended.Steps, 1)
}
