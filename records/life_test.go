package records_test

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/step"
	"vorrang/internal/pgtest"
	"vorrang/internal/wiretap"
	"vorrang/records"
	"vorrang/target/postgres"
)

// soon waits for what another session does.
func soon(t *testing.T, is func() bool) {
	t.Helper()
	require.Eventually(t, is, 20*time.Second, 10*time.Millisecond)
}

// two are two services on the same records, which have a lane.
func two(t *testing.T) (url string, one, other *records.Records) {
	url = pgtest.Database(t)
	return url, begun(t, url), begun(t, url)
}

func begun(t *testing.T, url string) *records.Records {
	r := open(t, url)
	t.Cleanup(r.Close)
	_, err := r.DeclareLane(t.Context(), lane.Lane{Name: "harbour", Engine: "postgresql"}, "pilot")
	require.NoError(t, err)
	return r
}

var running = records.Deployment{
	Lane: "harbour", Environment: "staging", Direction: ledger.Forward, Actor: "pilot",
}

func TestOnlyADeadServicesDeploymentIsTakenOver(t *testing.T) {
	url, one, other := two(t)
	d, err := one.Begin(t.Context(), running)
	require.NoError(t, err)
	require.Equal(t, one.Service(), d.Service)
	list, err := other.Abandoned(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, list, "its service lives")
	taken, err := other.TakeOver(t.Context(), d)
	require.NoError(t, err)
	assert.False(t, taken)
	require.NoError(t, one.AddEvents(t.Context(), d.ID, []deploy.Event{{Seq: 1, Kind: deploy.Started}}))
	assert.ErrorAs(t, other.AddEvents(t.Context(), d.ID, []deploy.Event{{Seq: 2}}), new(records.TakenOverError))
	assert.ErrorAs(t, other.End(t.Context(), d.ID, deploy.Done, nil), new(records.TakenOverError))
	kept, err := one.Deployment(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, deploy.Running, kept.Outcome, "another service's word does not count")

	one.Close() // as if it had been killed: its session is gone
	soon(t, func() bool {
		list, err = other.Abandoned(t.Context(), nil)
		return err == nil && len(list) == 1
	})
	third := open(t, url)
	defer third.Close()
	var won atomic.Int32
	var tries sync.WaitGroup
	for _, who := range []*records.Records{other, third} {
		tries.Go(func() {
			if taken, err := who.TakeOver(t.Context(), list[0]); assert.NoError(t, err) && taken {
				won.Add(1)
			}
		})
	}
	tries.Wait()
	assert.EqualValues(t, 1, won.Load(), "one takes it over")
}

func TestWhoComesBackFindsItsDeploymentTaken(t *testing.T) {
	url := pgtest.Database(t)
	tap := wiretap.Open(t, url)
	one, other := begun(t, tap.URL), begun(t, url)
	d, err := one.Begin(t.Context(), running)
	require.NoError(t, err)
	restore := tap.Sever()
	soon(t, func() bool {
		taken, err := other.TakeOver(t.Context(), d)
		return err == nil && taken
	})
	restore()
	require.NoError(t, other.End(t.Context(), d.ID, deploy.Interrupted, nil))
	soon(t, func() bool { return one.Ping(t.Context()) == nil })
	assert.ErrorAs(t, one.AddEvents(t.Context(), d.ID, []deploy.Event{{Seq: 1}}), new(records.TakenOverError))
	assert.ErrorAs(t, one.End(t.Context(), d.ID, deploy.Done, nil), new(records.TakenOverError))
	kept, err := one.Deployment(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, deploy.Interrupted, kept.Outcome)
	_, err = one.Begin(t.Context(), running)
	require.NoError(t, err, "it lives again")
}

// TestAServiceOutlivesARestartOfItsRecords: it says that it is not seen to live, and then it is.
func TestAServiceOutlivesARestartOfItsRecords(t *testing.T) {
	server := pgtest.Own(t)
	url := server.Database(t)
	r := open(t, url)
	t.Cleanup(r.Close)
	heard := make(chan records.News, 10)
	r.Hear(func(n records.News) { heard <- n })
	require.NoError(t, server.Stop("immediate"))
	soon(t, func() bool { return r.Ping(t.Context()) != nil })
	require.NoError(t, server.Start())
	soon(t, func() bool { return r.Ping(t.Context()) == nil })
	assert.Equal(t, records.News{}, <-heard, "something may have been missed")
	list, err := r.Services(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, r.Service(), list[0].ID)
}

// TestAStartTriesAgainForItsSession: a server under load may refuse the first.
func TestAStartTriesAgainForItsSession(t *testing.T) {
	url := pgtest.Database(t)
	open(t, url).Close()
	holder := pgtest.Connect(t, url)
	_, err := holder.Exec(t.Context(), `SELECT pg_advisory_lock(1987015217, 1 + max(id)) FROM records.service`)
	require.NoError(t, err)
	opened := make(chan error, 1)
	go func() {
		r, err := records.Open(t.Context(), postgres.Engine{}, url, records.Settings{Wait: 5 * time.Second})
		if err == nil {
			r.Close()
		}
		opened <- err
	}()
	soon(t, func() bool {
		return pgtest.Query(t, url, `SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND NOT granted
			AND database = (SELECT oid FROM pg_database WHERE datname = current_database())`) == "true"
	})
	require.NoError(t, holder.Close(t.Context()))
	assert.NoError(t, <-opened)
}

func TestOneServiceAtATimeHasATask(t *testing.T) {
	_, one, other := two(t)
	claim := func(r *records.Records) bool {
		claimed, err := r.Claim(t.Context(), "look harbour/staging")
		require.NoError(t, err)
		return claimed
	}
	assert.True(t, claim(one))
	assert.True(t, claim(one), "again")
	assert.False(t, claim(other))
	require.NoError(t, other.Unclaim(t.Context(), "look harbour/staging"), "what is another's stays")
	assert.False(t, claim(other))
	require.NoError(t, one.Unclaim(t.Context(), "look harbour/staging"))
	assert.True(t, claim(other))
	other.Close()
	soon(t, func() bool { return claim(one) }) // a dead service has nothing
}

// TestAScheduledPromotionBeginsOnce, however many services find it due.
func TestAScheduledPromotionBeginsOnce(t *testing.T) {
	_, one, other := two(t)
	s, err := one.Schedule(t.Context(), records.Scheduled{
		Lane: "harbour", Environment: "staging", Due: time.Now().Add(-time.Second), Actor: "pilot",
	})
	require.NoError(t, err)
	mine, err := one.ClaimDue(t.Context())
	require.NoError(t, err)
	require.Len(t, mine, 1)
	theirs, err := other.ClaimDue(t.Context())
	require.NoError(t, err)
	assert.Empty(t, theirs)
	_, waits, err := other.NextDue(t.Context())
	require.NoError(t, err)
	assert.False(t, waits, "nothing waits for another service")
	begin := running
	begin.Scheduled = s.ID
	_, err = other.Begin(t.Context(), begin)
	assert.ErrorContains(t, err, "another service begins it")
	none, err := one.Running(t.Context(), "harbour", "staging")
	require.NoError(t, err)
	assert.Nil(t, none, "nothing of it stays")

	one.Close()
	soon(t, func() bool { // the one that claimed it is dead
		theirs, err = other.ClaimDue(t.Context())
		return err == nil && len(theirs) == 1
	})
	_, err = other.Begin(t.Context(), begin)
	require.NoError(t, err)
	again, err := other.ClaimDue(t.Context())
	require.NoError(t, err)
	assert.Empty(t, again)
}

func TestADeliveryIsClaimedByOne(t *testing.T) {
	_, one, other := two(t)
	require.NoError(t, one.PutHook(t.Context(), records.Hook{Name: "h", URL: "env:U", Secret: "env:S", Events: []string{"done"}}))
	for range 3 {
		_, err := one.AddDeliveries(t.Context(), "harbour", "done", "t", "e", "{}")
		require.NoError(t, err)
	}
	mine, err := one.ClaimDeliveries(t.Context(), 2)
	require.NoError(t, err)
	require.Len(t, mine, 2)
	theirs, err := other.ClaimDeliveries(t.Context(), 2)
	require.NoError(t, err)
	require.Len(t, theirs, 1)
	mine[0].State, mine[0].Tries = "delivered", 1
	require.NoError(t, one.RecordAttempt(t.Context(), mine[0]))
	one.Close()
	soon(t, func() bool { // those that nobody delivered
		theirs, err = other.ClaimDeliveries(t.Context(), 9)
		return err == nil && len(theirs) == 2
	})
}

// TestTheDoorOfALaneIsOneForAllServices: who passes holds changes up, and the other way about,
// and a service that dies leaves it open.
func TestTheDoorOfALaneIsOneForAllServices(t *testing.T) {
	url, one, other := two(t)
	leave, err := one.Pass(t.Context(), "harbour")
	require.NoError(t, err)
	also, err := other.Pass(t.Context(), "harbour")
	require.NoError(t, err, "any number may pass")
	also()
	require.NoError(t, other.Change(t.Context(), "tide-gauges", func() error { return nil }), "another lane")
	changed := make(chan error, 1)
	go func() { changed <- other.Change(t.Context(), "harbour", func() error { return nil }) }()
	waits := `SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND classid = 1987015218 AND NOT granted`
	soon(t, func() bool { return pgtest.Query(t, url, waits) == "1" })
	leave()
	leave()
	require.NoError(t, <-changed)

	leave, err = one.Pass(t.Context(), "harbour")
	require.NoError(t, err)
	defer leave()
	pgtest.Exec(t, url, `SELECT pg_terminate_backend(pid) FROM pg_locks
		WHERE locktype = 'advisory' AND classid = 1987015218 AND granted`) // as if it had died
	require.NoError(t, other.Change(t.Context(), "harbour", func() error { return nil }))
}

// TestACatalogueIsTheNewestAtEveryService, though it is kept in memory.
func TestACatalogueIsTheNewestAtEveryService(t *testing.T) {
	_, one, other := two(t)
	var files []step.File
	for i, r := range []*records.Records{one, other, one, other} {
		before, err := other.Catalogue(t.Context(), "harbour")
		require.NoError(t, err)
		files = append(files, file(t, fmt.Sprintf("%d-berth.sql", i+1), "SELECT 1;"))
		submit(t, r, files...)
		after, err := other.Catalogue(t.Context(), "harbour")
		require.NoError(t, err)
		assert.Len(t, after, len(before)+1)
	}
}

func TestNewsReachEveryService(t *testing.T) {
	_, one, other := two(t)
	heard := make(chan records.News, 100)
	other.Hear(func(n records.News) { heard <- n })
	d, err := one.Begin(t.Context(), running)
	require.NoError(t, err)
	require.NoError(t, one.AddEvents(t.Context(), d.ID, []deploy.Event{{Seq: 1, Kind: deploy.Started}}))
	assert.Equal(t, records.News{Kind: "deployment", ID: d.ID}, <-heard)
	asked, err := other.AskCancel(t.Context(), d.ID, "m.kai")
	require.NoError(t, err)
	assert.True(t, asked)
	assert.Equal(t, records.News{Kind: "cancel"}, <-heard)
	mine, _, err := one.Cancels(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[int64]string{d.ID: "m.kai"}, mine)
	theirs, _, err := other.Cancels(t.Context())
	require.NoError(t, err)
	assert.Empty(t, theirs)
	require.NoError(t, one.End(t.Context(), d.ID, deploy.Cancelled, nil))
	assert.Equal(t, records.News{Kind: "deployment", ID: d.ID}, <-heard)
	assert.Equal(t, records.News{Kind: "changed"}, <-heard)
	asked, err = other.AskCancel(t.Context(), d.ID, "m.kai")
	require.NoError(t, err)
	assert.False(t, asked, "it does not run any more")
}
