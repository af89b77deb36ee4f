package service_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

// TestATargetThatDoesNotAnswerHoldsUpNoOther: who reads the overview waits as long as they want to, and is told
// what is not read yet.
func TestATargetThatDoesNotAnswerHoldsUpNoOther(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.berth (id int)"})
	w.Promoted("development")
	overview := func() (places map[string]api.EnvironmentStatus) {
		seen, err := w.LanesPage(t.Context(), client.LaneQuery{Wait: 1})
		require.NoError(t, err)
		require.Len(t, seen.Lanes, 1)
		places = map[string]api.EnvironmentStatus{}
		for _, e := range seen.Lanes[0].Environments {
			places[e.Environment] = e
		}
		return places
	}

	end := w.Silent("staging")
	places := overview()
	assert.True(t, places["development"].Reached)
	assert.False(t, places["development"].Reading)
	assert.True(t, places["staging"].Reading)
	assert.False(t, places["staging"].Reached)
	assert.Empty(t, places["staging"].Trouble, "nobody knows of any")
	assert.Zero(t, places["staging"].ReadAt)
	assert.NotEmpty(t, places["staging"].Target, "what is declared is known")

	end()
	status := must(w.Status(t.Context(), "harbour", "staging", "none"))
	assert.False(t, status.Reading)
	require.NotEmpty(t, status.Trouble)
	assert.Equal(t, "unreachable", status.Trouble[0].Kind)

	w.Found("staging")
	w.Promoted("staging")
	before := must(w.Status(t.Context(), "harbour", "staging", "none"))
	require.Equal(t, 1, before.Applied)
	w.Silent("staging")
	w.Pass(time.Minute)
	now := overview()["staging"]
	assert.True(t, now.Reading)
	assert.Equal(t, 1, now.Applied, "as it was seen last")
	assert.WithinDuration(t, before.ReadAt, now.ReadAt, 0)
	require.NotNil(t, now.Last, "what the service did is known without the target")
	assert.Equal(t, before.Last.ID, now.Last.ID)
	assert.NotNil(t, now.Gate, "a list, as the API's document says")

	alone := must(w.StatusWithin(t.Context(), "harbour", "staging", "open", 1))
	assert.Equal(t, now, *alone, "an environment's own page waits no longer")
}

// TestWhoHangsUpIsNoFailure of the service's: its log has no error of it.
func TestWhoHangsUpIsNoFailure(t *testing.T) {
	w := servicetest.Start(t)
	w.Silent("staging")
	require.Eventually(t, func() bool {
		ctx, hangUp := context.WithTimeout(t.Context(), time.Second)
		defer hangUp()
		_, err := w.Drift(ctx, "harbour", "staging")
		require.Error(t, err)
		return len(w.Logged("a caller was gone before the answer")) > 0
	}, time.Minute, 100*time.Millisecond)
	assert.Empty(t, w.Logged(`"level":"ERROR"`))
}
