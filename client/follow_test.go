package client_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/plan"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// cutting passes connections on to a server, and cuts each after some bytes
// of its answers.
func cutting(t *testing.T, server string, after int64) (address string, cuts *atomic.Int64) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	cuts = &atomic.Int64{}
	go func() {
		for {
			from, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer from.Close()
				to, err := net.Dial("tcp", server)
				if err != nil {
					return
				}
				defer to.Close()
				go func() { _, _ = io.Copy(to, from) }()
				if n, _ := io.CopyN(from, to, after); n == after {
					cuts.Add(1)
				}
			}()
		}
	}()
	return "http://" + listener.Addr().String(), cuts
}

func TestAStreamThatBreaksOffIsTakenUpWhereItWas(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{"1-a.sql": "SELECT 1", "2-b.sql": "SELECT 2", "3-c.sql": "SELECT 3", "4-d.sql": "SELECT 4"},
	)
	id := w.Promoted("staging").ID
	address, cuts := cutting(t, w.Server[len("http://"):], 900)
	broken := client.New(address, servicetest.Token, "pilot")
	var heard []int64
	require.NoError(t, broken.Follow(t.Context(), id, 0, func(e deploy.Event) error {
		heard = append(heard, e.Seq)
		return nil
	}))
	assert.Positive(t, cuts.Load(), "the connection was cut")
	assert.Equal(t, []int64{1, 2, 3, 4, 5, 6, 7, 8, 9, 10}, heard, "every event once, in order")
}

func TestFollowEndsWhenItIsTold(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1"})
	id := w.Promoted("staging").ID
	mine := errors.New("mine")
	assert.ErrorIs(t, w.Follow(t.Context(), id, 0, func(deploy.Event) error { return mine }), mine)
	gone, cancel := context.WithTimeout(t.Context(), time.Nanosecond)
	defer cancel()
	assert.ErrorIs(t, w.Follow(gone, id, 0, func(deploy.Event) error { return nil }), context.DeadlineExceeded)
	var answered *client.Error
	require.ErrorAs(t, w.Follow(t.Context(), 999, 0, func(deploy.Event) error { return nil }), &answered)
	assert.Equal(t, "not-found", answered.Kind())
	assert.Contains(
		t, answered.Error(),
		"there is no deployment 999\nsee those that you may read: vorrang deployments",
	)
}

func TestAServerThatIsNoVorrang(t *testing.T) {
	other := httptest.NewServer(
		http.HandlerFunc(
			func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "hello", http.StatusBadGateway) },
		),
	)
	defer other.Close()
	_, err := client.New(other.URL, "t", "a").Lanes(t.Context())
	assert.ErrorContains(t, err, "502 Bad Gateway, and not as Vorrang does; is the address right?")
	_, err = client.New("http://127.0.0.1:1", "t", "a").Lanes(t.Context())
	var silent *client.UnreachableError
	assert.ErrorAs(t, err, &silent)
	_, err = client.New("::", "t", "a").Lanes(t.Context())
	assert.Error(t, err)
}

// TestAFleetIsFollowed through streams that break off, of which each begins with all targets, and at an older service, which has
// none and is asked again.
func TestAFleetIsFollowed(t *testing.T) {
	const (
		running = `{"id": 3, "outcome": "running", "targets": [{"target": "north", "stand": "running"}, {"target": "south", "stand": "waiting"}]}`
		change  = `{"id": 3, "outcome": "running", "targets": [{"target": "south", "stand": "running"}]}`
		done    = `{"id": 3, "outcome": "done", "targets": [{"target": "north", "stand": "done"}, {"target": "south", "stand": "done"}]}`
		event   = "event: fleet\ndata: %s\n\n"
	)
	for kind, c := range map[string]struct {
		answers []string
		heard   []plan.Stand
	}{
		"text/event-stream": {
			[]string{
				fmt.Sprintf(event+event, running, change) + "event: fleet\ndata: {\"id\": 3, \"out", // and no more
				fmt.Sprintf(event, done),
			},
			[]plan.Stand{plan.Waiting, plan.Underway, plan.Reached},
		},
		"application/json": {[]string{running, done}, []plan.Stand{plan.Waiting, plan.Reached}},
	} {
		t.Run(kind, func(t *testing.T) {
			service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", kind)
				_, _ = io.WriteString(w, c.answers[0])
				c.answers = c.answers[1:]
			}))
			defer service.Close()
			var heard []plan.Stand
			follow := func(tell func(*api.FleetDeployment) error) error {
				return client.New(service.URL, "", "").FollowFleet(t.Context(), 3, tell)
			}
			require.NoError(t, follow(func(now *api.FleetDeployment) error {
				require.Len(t, now.Targets, 2)
				heard = append(heard, now.Targets[1].Stand)
				return nil
			}))
			assert.Equal(t, c.heard, heard)
			mine := errors.New("mine")
			c.answers = []string{fmt.Sprintf(event, done)}
			if kind == "application/json" {
				c.answers[0] = done
			}
			assert.ErrorIs(t, follow(func(*api.FleetDeployment) error { return mine }), mine)
		})
	}
}
