package tests

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/rehearsal"
	"vorrang/internal/pgtest"
)

// A rehearsal whose service is killed leaves its copy; the next start drops it.
func TestACopyThatAKilledServiceLeftIsDropped(t *testing.T) {
	target := pgtest.Database(t)
	p := startProcess(t, "TARGET="+target)
	_, err := p.Declare(
		t.Context(), "lane.yaml",
		[]byte(
			"lane: harbour\nenvironments: [{name: staging, target: env:TARGET, scratch: env:TARGET, gate: {release: "+
				"not-asked}}]\n",
		),
	)
	require.NoError(t, err)
	p.submit(map[string]string{"1-slow.sql": "CREATE TABLE berth (id int);\nSELECT pg_sleep(7113);"})
	rehearsed := make(chan error, 1)
	go func() {
		_, err := p.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil)
		rehearsed <- err
	}()
	copied := ""
	require.Eventually(t, func() bool {
		copied = pgtest.Query(
			t, target,
			"SELECT coalesce(max(datname), '') FROM pg_stat_activity WHERE query LIKE '%pg_sleep(7113)%' AND datname LIKE "+
				"'vorrang\\_scratch\\_%'",
		)
		return copied != ""
	}, 30*time.Second, 20*time.Millisecond)
	p.kill()
	assert.Error(t, <-rehearsed)
	there := func() bool {
		return pgtest.Query(t, target, "SELECT count(*)::text FROM pg_database WHERE datname = '"+copied+"'") == "1"
	}
	require.True(t, there(), "it was left behind")
	p.start()
	require.Eventually(t, func() bool { return !there() }, 30*time.Second, 50*time.Millisecond)
	list, err := p.Rehearsals(t.Context(), "harbour", "staging", client.ListQuery{Limit: 5})
	require.NoError(t, err)
	require.Len(t, list.Rehearsals, 1)
	assert.Equal(t, rehearsal.Interrupted, list.Rehearsals[0].State)
}
