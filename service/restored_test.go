package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// TestNumbersDoNotRepeatAfterTheRecordsAreRestored from an older dump: a rollback by a deployment's
// number reverses that one only, and status says what the records lack.
func TestNumbersDoNotRepeatAfterTheRecordsAreRestored(t *testing.T) {
	w := servicetest.Start(t)
	steps := map[string]string{}
	for _, name := range []string{"1-a", "2-b", "3-c", "4-d"} {
		steps[name+".sql"] = "CREATE TABLE public.t" + name[:1] + " (id int)"
		steps[name+".back.sql"] = "DROP TABLE public.t" + name[:1]
	}
	w.Submitted(steps)
	through := func(c *client.Client, step string) int64 {
		promoted, err := c.Promote(t.Context(), "harbour", "development", client.Promotion{Through: step})
		require.NoError(t, err)
		w.Ended(promoted)
		return promoted.Deployment.ID
	}
	through(w.Client, "1")
	older := pgtest.Database(t)
	restore(t, w.Records, older)
	lost := through(w.Client, "2")
	w.Stop()
	restore(t, older, w.Records)
	w.Client = w.Beside()

	status := must(w.Status(t.Context(), "harbour", "development", "none"))
	require.NotEmpty(t, status.Trouble)
	assert.Equal(t, "unknown-deployments", status.Trouble[0].Kind)
	assert.Contains(t, status.Trouble[0].Message, "deployment 2, which the service's records do not know")

	next := through(w.Client, "3")
	assert.Greater(t, next, lost, "numbers go on above what the ledger knows")
	w.Ended(must(w.Rollback(t.Context(), "harbour", "development", client.Way{Deployment: next}, "development")))
	assert.Equal(t, "3", pgtest.Query(t, w.URLs["development"],
		"SELECT 1 + (to_regclass('t2') IS NOT NULL)::int + (to_regclass('t3') IS NULL)::int"), "step 2 is another deployment's")
}
