package service_test

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
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

// TestALookKnowsWhatWasSubmittedBeforeIt: also where it is part of an answer that was asked for earlier, and
// waited for other targets.
func TestALookKnowsWhatWasSubmittedBeforeIt(t *testing.T) {
	const atOnce = 16 // lanes
	w := servicetest.Start(t)
	file := filepath.Join(t.TempDir(), "target")
	leads := func(address string) {
		require.NoError(t, os.WriteFile(file, []byte("postgres://nobody@"+address+"/none"), 0o600))
	}
	leads("127.0.0.1:1")
	for i := range atOnce { // by name, they come before the harbour
		_, err := w.Declare(t.Context(), "lane.yaml",
			fmt.Appendf(nil, "lane: a%02d\nenvironments: [{name: only, target: \"file:%s\"}]\n", i, file))
		require.NoError(t, err)
	}
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	leads(silent.Addr().String())
	asked := make(chan []api.LaneStatus, 1)
	go func() {
		answer, err := w.Lanes(t.Context())
		if assert.NoError(t, err) {
			asked <- answer.Lanes
		}
		close(asked)
	}()
	var taken []net.Conn
	for range atOnce {
		conn, err := silent.Accept()
		require.NoError(t, err)
		taken = append(taken, conn)
	}
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)"})
	require.NoError(t, silent.Close())
	for _, conn := range taken {
		require.NoError(t, conn.Close())
	}
	lanes := <-asked
	require.Len(t, lanes, atOnce+1)
	assert.Equal(t, 1, lanes[atOnce].Environments[0].Pending)
}
