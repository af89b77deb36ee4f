package service_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// yielding is a lane whose staging lets nobody wait for longer than a second.
func yielding(t *testing.T) (w *servicetest.World, url string) {
	w, url = servicetest.Start(t), pgtest.Database(t)
	file := filepath.Join(t.TempDir(), "url")
	require.NoError(t, os.WriteFile(file, []byte(url), 0o600))
	_, err := w.Declare(
		t.Context(), "lane.yaml",
		fmt.Appendf(
			nil,
			"lane: port\nenvironments: [{name: staging, target: %q, block-at-most: 1s, gate: {release: not-asked}}]\n",
			"file:"+file,
		),
	)
	require.NoError(t, err)
	return w, url
}

func follow(t *testing.T, w *servicetest.World, id int64) (messages []string) {
	require.NoError(t, w.Follow(t.Context(), id, 0, func(e deploy.Event) error {
		if e.Kind == deploy.Waiting {
			messages = append(messages, e.Message)
		}
		return nil
	}))
	return messages
}

// Twenty clients read and write a table while a step holds it: none waits for as
// long as the step would hold it, the step gives way, and says so.
func TestAStepGivesWayToThoseWhoWait(t *testing.T) {
	w, url := yielding(t)
	pgtest.Exec(
		t, url,
		"CREATE TABLE public.berth (id int PRIMARY KEY, calls int); INSERT INTO public.berth SELECT i, 0 FROM "+
			"generate_series(1, 20) i",
	)
	must(w.Baseline(t.Context(), "port", "staging", "0", false))
	// it holds the table for 20 s in a try, and would never let anybody in
	submitTo(
		t, w, "port",
		map[string]string{"1-hold.sql": "/*---\nretries: 1\n---*/\nLOCK TABLE public.berth;\nSELECT pg_sleep(20);"},
	)
	promoted := must(w.Promote(t.Context(), "port", "staging", client.Promotion{}))

	ctx, stop := context.WithCancel(t.Context())
	var clients sync.WaitGroup
	longest := make([]time.Duration, 20)
	for i := range longest {
		conn := pgtest.Connect(t, url)
		clients.Go(func() {
			for ctx.Err() == nil {
				began := time.Now()
				_, err := conn.Exec(
					context.WithoutCancel(ctx),
					"UPDATE public.berth SET calls = calls + 1 WHERE id = $1",
					i+1,
				)
				assert.NoError(t, err, "nobody is cancelled but the step")
				longest[i] = max(longest[i], time.Since(began))
			}
		})
	}
	messages := follow(t, w, promoted.Deployment.ID)
	stop()
	clients.Wait()
	ended := must(w.Deployment(t.Context(), promoted.Deployment.ID))
	assert.Equal(t, deploy.Failed, ended.Outcome)
	assert.Contains(t, ended.Failure.Message, "it gave way after others had waited for it for 1s: ")
	assert.Equal(t, "nothing: the step's transaction was rolled back", ended.Failure.Left)
	require.Len(t, messages, 1)
	assert.Contains(t, messages[0], "others go first, try 2 of 2 follows in 1s")
	t.Logf("the longest that a client waited was %s", slices.Max(longest))
	for _, waited := range longest {
		assert.Less(t, waited, 10*time.Second, "which is far less than the step would have held the table")
	}
	assert.NotEqual(t, "0", pgtest.Query(t, url, "SELECT sum(calls)::text FROM public.berth"))
}

// A step that waits for a lock keeps those waiting who come after it. It gives way to
// them too, and is done once the way is free.
func TestAStepInLineGivesWay(t *testing.T) {
	w, url := yielding(t)
	pgtest.Exec(t, url, "CREATE TABLE public.berth (id int PRIMARY KEY)")
	must(w.Baseline(t.Context(), "port", "staging", "0", false))
	submitTo(
		t, w, "port",
		map[string]string{
			"1-add.sql": "/*---\nretries: 20\nlock-timeout: 60s\n---*/\nALTER TABLE public.berth ADD COLUMN name text;",
		},
	)
	reader := pgtest.Connect(t, url)
	_, err := reader.Exec(t.Context(), "BEGIN; SELECT count(*) FROM public.berth")
	require.NoError(t, err)
	promoted := must(w.Promote(t.Context(), "port", "staging", client.Promotion{}))
	require.Eventually(t, func() bool {
		return pgtest.Query(t, url, "SELECT count(*) FROM pg_locks WHERE NOT granted") == "1"
	}, 20*time.Second, 10*time.Millisecond, "the step is in line")
	late := pgtest.Connect(t, url)
	began := time.Now()
	_, err = late.Exec(t.Context(), "SELECT count(*) FROM public.berth")
	require.NoError(t, err)
	assert.Less(
		t, time.Since(began), 30*time.Second,
		"who comes after the step does not wait until it gives up by itself",
	)
	_, err = reader.Exec(t.Context(), "COMMIT")
	require.NoError(t, err)
	messages := follow(t, w, promoted.Deployment.ID)
	assert.NotEmpty(t, messages)
	assert.Equal(t, deploy.Done, must(w.Deployment(t.Context(), promoted.Deployment.ID)).Outcome)
}

// Where nobody waits, a step takes its time.
func TestAStepThatKeepsNobodyWaitingGoesOn(t *testing.T) {
	w, _ := yielding(t)
	submitTo(t, w, "port", map[string]string{"1-slow.sql": "CREATE TABLE public.tide (id int); SELECT pg_sleep(1.5);"})
	promoted := must(w.Promote(t.Context(), "port", "staging", client.Promotion{}))
	assert.Empty(t, follow(t, w, promoted.Deployment.ID))
	assert.Equal(t, deploy.Done, must(w.Deployment(t.Context(), promoted.Deployment.ID)).Outcome)
}

func submitTo(t *testing.T, w *servicetest.World, lane string, files map[string]string) {
	w.Write(files)
	must(w.Submit(t.Context(), lane, os.DirFS(w.Steps)))
}
