package service_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/internal/servicetest"
)

// What depends on the time turns when the time has come, and not before.
func TestTimeOpensAndClosesTheGate(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	w.Submitted(map[string]string{"1-create-berth.sql": "CREATE TABLE berth (id int);"})
	must(w.Cut(ctx, "harbour", client.Cutting{Name: "2026.12"}))
	production := func() gate.Result {
		return gate.Result{Checks: must(w.Gate(ctx, "harbour", "production", "2026.12")).Checks}
	}
	w.Gates(map[string]string{"production": "soak: 24h"})
	w.Ended(must(w.Promote(ctx, "harbour", "staging", client.Promotion{Release: "2026.12"})))
	for range 2 {
		assert.Equal(t, gate.Hold, production().Find(gate.Soak).Verdict)
		w.Pass(11 * time.Hour)
	}
	w.Pass(2*time.Hour - time.Minute)
	assert.Equal(t, gate.Hold, production().Find(gate.Soak).Verdict, "a minute is missing")
	w.Pass(2 * time.Minute)
	assert.Equal(t, gate.Pass, production().Find(gate.Soak).Verdict)

	opens := w.Now().UTC().Add(3 * time.Hour)
	w.Gates(
		map[string]string{
			"production": fmt.Sprintf(
				"backup: 6h, window: {hours: %s-%s}",
				opens.Format("15:04"),
				opens.Add(time.Hour).Format("15:04"),
			),
		},
	)
	_, err := w.Backup(ctx, "harbour", "production", "nightly", w.Now())
	require.NoError(t, err)
	_, err = w.Freeze(ctx, "harbour", "production", w.Now().Add(4*time.Hour), w.Now().Add(8*time.Hour), "a regatta")
	require.NoError(t, err)
	for _, then := range []struct {
		after time.Duration
		holds []gate.ID
	}{
		{0, []gate.ID{gate.InWindow}},
		{3 * time.Hour, nil}, // the window is open
		{time.Hour + time.Minute, []gate.ID{gate.InWindow, gate.NotFrozen}}, // closed, and the freeze has begun
		{2 * time.Hour, []gate.ID{gate.InWindow, gate.NotFrozen, gate.FreshBackup}},
		{3 * time.Hour, []gate.ID{gate.InWindow, gate.FreshBackup}}, // the freeze has ended by itself
	} {
		w.Pass(then.after)
		var held []gate.ID
		for _, check := range production().Holds() {
			held = append(held, check.ID)
		}
		assert.ElementsMatch(t, then.holds, held, "after %s more", then.after)
	}
	w.Gates(map[string]string{"production": "previous-environment: not-asked"})
	w.Pass(24 * time.Hour)
	d := w.Ended(must(w.Promote(ctx, "harbour", "production", client.Promotion{Release: "2026.12"})))
	require.Equal(t, deploy.Done, d.Outcome)
	entries := must(w.Ledger(ctx, "harbour", "production", 1)).Entries
	assert.WithinDuration(t, w.Now(), entries[0].At, time.Hour, "the ledger has the service's time")
}
