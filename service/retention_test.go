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
	"vorrang/records"
)

// TestOldRecordsAreLetGo: what says how things stand, and what became of each step, stays.
func TestOldRecordsAreLetGo(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.berth (id int);\n" +
		"DO $$ BEGIN RAISE NOTICE 'berths are there'; END $$;"})
	first := w.Promoted("staging").ID
	w.Submitted(map[string]string{"2-b.sql": "ALTER TABLE public.berth ADD COLUMN code text;"})
	must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil))
	second := w.Promoted("staging").ID
	kinds := func(id int64) (all []deploy.Kind) {
		require.NoError(t, w.Follow(t.Context(), id, 0, func(e deploy.Event) error {
			all = append(all, e.Kind)
			return nil
		}))
		return all
	}
	require.Contains(t, kinds(first), deploy.Notice)
	require.Contains(t, kinds(second), deploy.Effect)
	forget := func(keep records.Retention, after time.Duration) records.Forgotten {
		return must(w.Service.Records.Forget(t.Context(), keep, time.Now().Add(after)))
	}
	const day = 24 * time.Hour
	all := records.Retention{Details: day, Schemas: day, Deliveries: day, Rehearsals: day}
	assert.Equal(t, records.Forgotten{}, forget(all, 0), "nothing is old")
	assert.Equal(t, records.Forgotten{}, forget(records.Retention{}, 4000*day), "without an age everything stays")

	audited := pgtest.Query(t, w.Records, "SELECT count(*)::text FROM records.audit")
	gone := forget(records.Retention{Details: day, Schemas: day, Rehearsals: day}, 2*day)
	assert.Positive(t, gone.Details)
	assert.EqualValues(t, 1, gone.Schemas, "the newest stays")
	assert.EqualValues(t, 1, gone.Rehearsals)
	for _, id := range []int64{first, second} {
		assert.Equal(t, []deploy.Kind{deploy.Started, deploy.StepBegan, deploy.StepDone, deploy.Ended}, kinds(id))
	}
	assert.Equal(t, "1", pgtest.Query(t, w.Records, "SELECT count(*)::text FROM records.schema"))
	assert.Equal(t, audited, pgtest.Query(t, w.Records, "SELECT count(*)::text FROM records.audit"))
	pgtest.Exec(t, w.URLs["staging"], "ALTER TABLE public.berth ADD COLUMN hotfix int")
	drift := must(w.Drift(t.Context(), "harbour", "staging"))
	require.Len(t, drift.Differences, 1, "what it should be is still known")
	pgtest.Exec(t, w.URLs["staging"], "ALTER TABLE public.berth DROP COLUMN hotfix")
	w.Submitted(map[string]string{"3-c.sql": "CREATE TABLE public.quay (id int);"})
	w.Promoted("staging")
}
