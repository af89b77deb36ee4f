package service_test

import (
	"encoding/json"
	"net/http"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

// statusAsAPage reads a status as a page does: an answer of up to 2 s ago will do.
func statusAsAPage(t *testing.T, w *servicetest.World) (status api.EnvironmentStatus) {
	answer := w.Ask(t, http.MethodGet, "/api/v1/lanes/harbour/environments/staging", nil, nil)
	require.Equal(t, http.StatusOK, answer.StatusCode)
	require.NoError(t, json.NewDecoder(answer.Body).Decode(&status))
	return status
}

// heardAll waits until the service has heard what services said to each other so far.
func heardAll(t *testing.T, w *servicetest.World) {
	heard, leave := w.Service.Follow("barrier", 1)
	defer leave()
	pgtest.Exec(t, w.Records, "SELECT pg_notify('vorrang', 'barrier 1')")
	<-heard
}

// TestManyPagesAreOneLook: whoever asks, the target is read once in 2 s, but for who wants
// what is so now, and after whatever the service itself did.
func TestManyPagesAreOneLook(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.berth (id int)"})
	w.Promoted("staging")
	heardAll(t, w)
	w.HoldClock()
	first := statusAsAPage(t, w)
	assert.Equal(t, 1, first.Applied)
	assert.WithinDuration(t, w.Now(), first.ReadAt, 0)

	pgtest.Exec(t, w.URLs["staging"], "ALTER SCHEMA vorrang RENAME TO away")
	w.Pass(time.Millisecond)
	var pages sync.WaitGroup
	for range 20 {
		pages.Go(func() {
			seen := statusAsAPage(t, w)
			assert.Equal(t, first.ReadAt, seen.ReadAt)
			assert.Equal(t, 1, seen.Applied)
		})
	}
	pages.Wait()
	w.Pass(time.Millisecond)
	now := must(w.Status(t.Context(), "harbour", "staging", "none"))
	assert.Zero(t, now.Applied, "the client wants what is so now")
	w.Pass(time.Millisecond)
	assert.Equal(t, now.ReadAt, statusAsAPage(t, w).ReadAt, "which others are then told")

	pgtest.Exec(t, w.URLs["staging"], "ALTER SCHEMA away RENAME TO vorrang")
	assert.Zero(t, statusAsAPage(t, w).Applied)
	w.Pass(2 * time.Second)
	later := statusAsAPage(t, w)
	assert.Equal(t, 1, later.Applied, "two seconds later it is read again")

	must(w.Freeze(t.Context(), "harbour", "staging", time.Time{}, w.Now().Add(time.Hour), "fog"))
	w.Pass(time.Millisecond)
	frozen := statusAsAPage(t, w)
	assert.NotEqual(t, later.ReadAt, frozen.ReadAt, "what the service did shows at once")
}
