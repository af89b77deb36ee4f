package service_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/rehearsal"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/records"
	"vorrang/target/postgres"
)

// waiting is a step that lasts until somebody lets it go on.
const waiting = "/*---\nlock-timeout: none\n---*/\nSELECT pg_advisory_xact_lock(7);"

// kept holds what the step waits for.
func kept(t *testing.T, url string) (release func()) {
	keeper := pgtest.Connect(t, url)
	_, err := keeper.Exec(t.Context(), "SELECT pg_advisory_lock(7)")
	require.NoError(t, err)
	return func() { _ = keeper.Close(context.Background()) }
}

// TestAnyServiceTellsWhatRunsAtAnother, to its end, and cancels it.
func TestAnyServiceTellsWhatRunsAtAnother(t *testing.T) {
	w := servicetest.Start(t)
	beside := w.Beside()
	w.Submitted(map[string]string{"1-wait.sql": waiting})
	release := kept(t, w.URLs["staging"])
	promoted := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{}))
	heard := make([][]deploy.Event, 2)
	var both sync.WaitGroup
	for i, c := range []*client.Client{w.Client, beside} {
		began := make(chan struct{})
		both.Go(func() {
			assert.NoError(t, c.Follow(t.Context(), promoted.Deployment.ID, 0, func(e deploy.Event) error {
				if heard[i] = append(heard[i], e); e.Kind == deploy.StepBegan {
					close(began)
				}
				return nil
			}))
		})
		<-began // while it runs
	}
	release()
	both.Wait()
	assert.NotEmpty(t, heard[0])
	assert.Equal(t, heard[0], heard[1])
	assert.Equal(t, deploy.Done, must(beside.Deployment(t.Context(), promoted.Deployment.ID)).Outcome)

	w.Submitted(map[string]string{"2-wait.sql": waiting})
	defer kept(t, w.URLs["staging"])()
	promoted = must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{}))
	_, err := beside.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	assert.ErrorContains(t, err, "has been running", "there is one at a time")
	_, err = beside.Cancel(t.Context(), promoted.Deployment.ID)
	require.NoError(t, err)
	assert.Equal(t, deploy.Cancelled, w.Ended(promoted).Outcome)
	_, err = beside.Cancel(t.Context(), promoted.Deployment.ID)
	assert.ErrorContains(t, err, "is not running; it is cancelled")
}

func TestAnyServiceTellsOfARehearsalAtAnother(t *testing.T) {
	w := servicetest.Start(t)
	beside := w.Beside()
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int);", "1-a.back.sql": "DROP TABLE a;"})
	r := must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil))
	var rounds []string
	require.NoError(t, beside.FollowRehearsal(t.Context(), r, func(e deploy.Event) {
		if e.Kind == deploy.Round {
			rounds = append(rounds, e.Message)
		}
	}))
	assert.Contains(t, rounds, "forward again", "also after its end")

	w.Submitted(map[string]string{"1-a.sql": "SELECT pg_sleep(60);"})
	begun := make(chan struct{})
	ended := make(chan rehearsal.State, 1)
	go func() {
		once := sync.OnceFunc(func() { close(begun) })
		r, err := w.Rehearse(context.Background(), "harbour", "staging", client.Rehearsal{}, func(e deploy.Event) {
			if e.Kind == deploy.StepBegan {
				once()
			}
		})
		assert.NoError(t, err)
		ended <- r.State
	}()
	<-begun
	list := must(beside.Rehearsals(t.Context(), "harbour", "staging", client.ListQuery{Limit: 1}))
	_, err := beside.CancelRehearsal(t.Context(), "harbour", "staging", list.Rehearsals[0].ID)
	require.NoError(t, err)
	assert.Equal(t, rehearsal.Cancelled, <-ended)
}

// TestWhatOneServiceChangesAnotherShowsAtOnce, though answers are given again for a while.
func TestWhatOneServiceChangesAnotherShowsAtOnce(t *testing.T) {
	w := servicetest.Start(t)
	beside := w.Beside()
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int);"})
	page := func() string { // as a page asks, which takes what was told
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet,
			beside.Server+"/api/v1/lanes/harbour/environments/staging", nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+servicetest.Token)
		answer, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer answer.Body.Close()
		require.Equal(t, http.StatusOK, answer.StatusCode)
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return string(text)
	}
	before := page()
	_, err := w.Freeze(t.Context(), "harbour", "staging", time.Time{}, time.Now().Add(time.Hour), "the tide")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return page() != before }, time.Second, 5*time.Millisecond,
		"earlier than what was told goes out of date")
}

// left has a deployment look as if a service had died while it ran it.
func left(t *testing.T, w *servicetest.World, id int64) {
	dead, err := records.Open(t.Context(), postgres.Engine{}, w.Records, records.Settings{Wait: time.Minute})
	require.NoError(t, err)
	number := dead.Service()
	pgtest.Exec(t, w.Records, fmt.Sprintf(`UPDATE records.deployment SET outcome = 'running', ended_at = NULL, failure = NULL,
		service = %d WHERE id = %d; DELETE FROM records.event WHERE deployment = %[2]d AND body ->> 'kind' = 'ended'`,
		number, id))
	dead.Close()
}

// TestWhatADeadServiceLeftIsClosedByWhatTheLedgerSays, once nobody works on the target any more.
func TestWhatADeadServiceLeftIsClosedByWhatTheLedgerSays(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.a (id int);"})
	done := w.Promoted("staging")
	w.Submitted(map[string]string{"2-b.sql": "SELECT 1 / 0;"})
	failed := w.Promoted("staging")
	require.Equal(t, deploy.Failed, failed.Outcome)
	last := func(id int64) (e deploy.Event) {
		require.NoError(t, w.Follow(t.Context(), id, 0, func(next deploy.Event) error { e = next; return nil }))
		return e
	}
	for id, is := range map[int64]deploy.Outcome{done.ID: deploy.Done, failed.ID: deploy.Interrupted} {
		session, err := postgres.Connect(t.Context(), w.URLs["staging"], "a service that lost the records")
		require.NoError(t, err)
		require.Eventually(t, func() bool { return session.Lock(t.Context()) == nil }, time.Minute, time.Millisecond,
			"whoever closed the deployment before leaves the target a moment after that is known")
		watches := pgtest.Connect(t, w.Records) // one session: whoever looks is there for some milliseconds only
		left(t, w, id)
		require.Eventually(t, func() (looks bool) {
			err := watches.QueryRow(t.Context(), `SELECT EXISTS (SELECT FROM pg_stat_activity
				WHERE application_name LIKE '%whose service is gone')`).Scan(&looks)
			return err == nil && looks
		}, time.Minute, time.Millisecond, "it is looked at")
		assert.Equal(t, deploy.Running, must(w.Deployment(t.Context(), id)).Outcome, "somebody still works on the target")
		session.Close()
		assert.Equal(t, is, last(id).Outcome)
		assert.Equal(t, is, must(w.Deployment(t.Context(), id)).Outcome)
	}

	left(t, w, failed.ID)
	w.Submitted(map[string]string{"2-b.sql": "SELECT 1;"})
	assert.Equal(t, deploy.Done, w.Promoted("staging").Outcome, "the next promotion does not wait for that")
	assert.Equal(t, deploy.Interrupted, must(w.Deployment(t.Context(), failed.ID)).Outcome)
}

// TestAFollowerHearsWhatIsKept, where another service took a deployment over: no more, and how
// it ended there.
func TestAFollowerHearsWhatIsKept(t *testing.T) {
	w := servicetest.Start(t)
	beside := w.Beside()
	w.Submitted(map[string]string{"1-wait.sql": waiting})
	release := kept(t, w.URLs["staging"])
	id := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{})).Deployment.ID
	var heard []deploy.Event
	runs, ended := make(chan struct{}), make(chan error, 1)
	go func() {
		ended <- w.Follow(t.Context(), id, 0, func(e deploy.Event) error {
			if heard = append(heard, e); e.Kind == deploy.StepBegan {
				close(runs)
			}
			return nil
		})
	}()
	<-runs
	pgtest.Exec(t, w.Records, fmt.Sprintf(`
		UPDATE records.deployment SET service = (SELECT max(id) FROM records.service), outcome = 'interrupted', ended_at = now()
			WHERE id = %[1]d;
		INSERT INTO records.event SELECT %[1]d, max(seq) + 1, jsonb_build_object('seq', max(seq) + 1, 'kind', 'ended', 'at', now(),
			'outcome', 'interrupted') FROM records.event WHERE deployment = %[1]d`, id))
	release()
	require.NoError(t, <-ended)
	var there []deploy.Event
	require.NoError(t, beside.Follow(t.Context(), id, 0, func(e deploy.Event) error { there = append(there, e); return nil }))
	assert.Equal(t, there, heard)
	assert.Equal(t, deploy.Interrupted, heard[len(heard)-1].Outcome)
}
