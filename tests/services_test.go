package tests

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/ledger"
	"vorrang/internal/pgtest"
	"vorrang/internal/wiretap"
	"vorrang/service/api"
)

// several are some services on the same records, with the lane harbour.
type several struct {
	t        *testing.T
	services []*process
	records  string
	taps     []*wiretap.Tap // between each service and the records
	urls     map[string]string
	struck   []string // what was done to the services, in order

	mu        sync.Mutex
	heard     map[int64][]deploy.Event // by who followed a deployment from its beginning
	refusals  int
	lostCalls int // whose service went away meanwhile

	compared, entries int // events of all deployments, and rows of the ledgers
}

var stops = []string{"development", "staging", "quay-1", "quay-2", "quay-3", "quay-4", "quay-5", "production"}

func startSeveral(t *testing.T, n int) *several {
	s := &several{t: t, records: pgtest.Database(t), urls: map[string]string{}, heard: map[int64][]deploy.Event{}}
	var env []string
	laneFile := "lane: harbour\nenvironments:\n"
	for _, stop := range stops {
		s.urls[stop] = pgtest.Database(t)
		variable := "TARGET_" + strings.ToUpper(strings.ReplaceAll(stop, "-", "_"))
		env = append(env, variable+"="+s.urls[stop])
		laneFile += fmt.Sprintf("  - {name: %s, target: env:%s, gate: {release: not-asked, "+
			"previous-environment: not-asked}}\n", stop, variable)
	}
	for range n {
		tap := wiretap.Open(t, s.records)
		s.taps = append(s.taps, tap)
		s.services = append(s.services, startProcess(t, append(env, "RECORDS="+tap.URL)...))
	}
	_, err := s.services[0].Declare(t.Context(), "lane.yaml", []byte(laneFile), "harbour")
	require.NoError(t, err)
	return s
}

// callPatience is how long a client waits for one answer: a service may stand still.
const callPatience = 20 * time.Second

// act does something at one of the services, and follows it at any.
func (s *several) act(ctx context.Context, random *rand.Rand) {
	ctx, cancel := context.WithTimeout(ctx, callPatience)
	defer cancel()
	at := s.services[random.IntN(len(s.services))]
	stop := stops[random.IntN(len(stops))]
	var promoted *api.Promoted
	var err error
	switch n := random.IntN(100); {
	case n < 45:
		promoted, err = at.Promote(ctx, "harbour", stop, client.Promotion{Whole: n%2 == 0})
	case n < 75:
		promoted, err = at.Rollback(ctx, "harbour", stop, client.Way{Last: 1 + random.IntN(3)}, stop)
	case n < 78:
		_, err = at.Submit(ctx, "harbour", folderOf(5+random.IntN(10)))
	case n < 80:
		_, err = at.Freeze(ctx, "harbour", stop, time.Time{}, time.Now().Add(time.Millisecond*50), "a moment")
	default:
		_, err = at.Status(ctx, "harbour", stop, "all")
	}
	if err == nil {
		if promoted != nil && !promoted.Nothing {
			s.follow(promoted.Deployment.ID, random)
		}
		return
	}
	var refused *client.Error
	s.mu.Lock()
	defer s.mu.Unlock()
	if !errors.As(err, &refused) {
		s.lostCalls++
		return
	}
	s.refusals++
	assert.NotEmpty(s.t, refused.Detail)
	assert.NotEqual(s.t, "internal", refused.Kind(), "%v", err)
}

// follow hears a deployment to its end, at another service whenever one does not answer.
func (s *several) follow(id int64, random *rand.Rand) {
	var heard []deploy.Event
	for try := 0; ; try++ {
		require.Less(s.t, try, 60, "deployment %d does not end", id)
		within, cancel := context.WithTimeout(s.t.Context(), 3*time.Second)
		at := s.services[random.IntN(len(s.services))]
		err := at.Follow(within, id, int64(len(heard)), func(e deploy.Event) error {
			heard = append(heard, e)
			return nil
		})
		cancel()
		if err == nil && len(heard) > 0 && heard[len(heard)-1].Kind == deploy.Ended {
			break
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.heard[id] = heard
}

// load has clients act at once until ctx is done.
func (s *several) load(ctx context.Context, clients int) (ended func()) {
	var all sync.WaitGroup
	for n := range clients {
		all.Go(func() {
			random := rand.New(rand.NewPCG(uint64(n), 7))
			for ctx.Err() == nil {
				s.act(s.t.Context(), random)
				pause(s.t, time.Duration(random.IntN(1000))*time.Millisecond) // people think
			}
		})
	}
	return all.Wait
}

// schedule has promotions begin while the services are struck, each by somebody of its own.
func (s *several) schedule(n int) {
	for i := range n {
		c := client.New(s.services[i%len(s.services)].Server, token, fmt.Sprintf("night-%d", i))
		_, err := c.Promote(s.t.Context(), "harbour", stops[i%len(stops)],
			client.Promotion{At: time.Now().Add(time.Duration(4000+200*i) * time.Millisecond)})
		require.NoError(s.t, err)
	}
}

// settled waits until nothing runs, and nothing waits for its time.
func (s *several) settled() {
	require.Eventually(s.t, func() bool {
		if pgtest.Query(s.t, s.records, "SELECT count(*) FROM records.scheduled WHERE state = 'waiting'") != "0" {
			return false // what waits may begin before the next question is answered
		}
		list, err := s.services[0].Deployments(s.t.Context(), client.DeploymentQuery{Outcome: string(deploy.Running), Limit: 10})
		return err == nil && len(list.Deployments) == 0
	}, time.Minute, 50*time.Millisecond, "nothing is stuck")
}

// outcomes reads all deployments at each service, holds them against what followers heard and
// against the ledgers, and counts how they ended.
func (s *several) outcomes() map[deploy.Outcome]int {
	count, ids := map[deploy.Outcome]int{}, map[string]*api.Deployment{}
	for before := int64(0); ; {
		list, err := s.services[0].Deployments(s.t.Context(), client.DeploymentQuery{Before: before, Limit: 200})
		require.NoError(s.t, err)
		for _, d := range list.Deployments {
			count[d.Outcome]++
			ids[fmt.Sprint(d.ID)] = &d
			s.sameEverywhere(d)
		}
		if before = list.Next; before == 0 {
			break
		}
	}
	for id := range s.heard {
		assert.Contains(s.t, ids, fmt.Sprint(id), "a deployment is lost")
	}
	for _, stop := range stops {
		s.sameAsLedger(stop, ids)
	}
	return count
}

// sameEverywhere: each service tells all events of a deployment, and no follower missed one.
func (s *several) sameEverywhere(d api.Deployment) {
	var first []deploy.Event
	for i, at := range s.services {
		var events []deploy.Event
		require.NoError(s.t, at.Follow(s.t.Context(), d.ID, 0, func(e deploy.Event) error {
			events = append(events, e)
			return nil
		}))
		if i == 0 {
			first = events
			for n, e := range events {
				assert.EqualValues(s.t, n+1, e.Seq)
			}
			assert.Equal(s.t, d.Outcome, events[len(events)-1].Outcome)
			continue
		}
		assert.Equal(s.t, first, events)
	}
	s.compared += len(first)
	if heard, followed := s.heard[d.ID]; followed {
		assert.Equal(s.t, first, heard, "what was heard of deployment %d", d.ID)
	}
}

func (s *several) sameAsLedger(stop string, known map[string]*api.Deployment) {
	history, err := s.services[0].Ledger(s.t.Context(), "harbour", stop, 0)
	require.NoError(s.t, err)
	assert.Empty(s.t, history.Chain)
	s.entries += len(history.Entries)
	present, done := map[string]bool{}, map[string]int{}
	for _, e := range slices.Backward(history.Entries) {
		assert.Contains(s.t, known, e.Deployment, "entry %d on %s", e.Seq, stop)
		switch done[e.Deployment]++; e.Action {
		case ledger.Applied:
			assert.False(s.t, present[string(e.Step)], "step %s was applied twice on %s", e.Step, stop)
			present[string(e.Step)] = true
		case ledger.RolledBack:
			delete(present, string(e.Step))
		default:
			assert.Fail(s.t, "an entry of another kind", "%s", e.Action)
		}
	}
	for id, d := range known {
		if d.Environment == stop && d.Outcome == deploy.Done {
			assert.Equal(s.t, d.Planned, done[id], "what deployment %s says that it did on %s", id, stop)
		}
	}
	rows := "0"
	if present["1"] {
		rows = pgtest.Query(s.t, s.urls[stop], "SELECT count(*) FROM effect")
		delete(present, "1")
	}
	assert.Equal(s.t, fmt.Sprint(len(present)), rows, stop)
}

// onceEach: no scheduled promotion began twice.
func (s *several) onceEach() {
	assert.Equal(s.t, "", pgtest.Query(s.t, s.records, `SELECT coalesce(string_agg(actor || ' ' || n, ', '), '') FROM (
		SELECT actor, count(*) AS n FROM records.deployment WHERE actor LIKE 'night-%' GROUP BY actor) x WHERE n > 1`))
	assert.Equal(s.t, "0", pgtest.Query(s.t, s.records, `SELECT count(*) FROM records.scheduled s
		JOIN records.deployment d ON d.id = s.deployment WHERE d.actor <> s.actor`))
}

func (s *several) signal(i int, what os.Signal) {
	require.NoError(s.t, s.services[i].command.Process.Signal(what))
}

// alive is how many services live.
func (s *several) alive() string {
	return pgtest.Query(s.t, s.records, "SELECT count(*) FROM records.service WHERE records.lives(id)")
}

func (s *several) until(lives string) {
	s.t.Helper()
	require.Eventually(s.t, func() bool { return s.alive() == lives }, 30*time.Second, 20*time.Millisecond)
}

// mishaps are what happens to one service while the others go on.
var mishaps = map[string]func(s *several, i int){
	"SIGKILL, and a new start": func(s *several, i int) {
		s.services[i].kill()
		s.until("2")
		pause(s.t, 3*time.Second) // others close what it left
		s.services[i].start()
		s.until("3")
	},
	"SIGSTOP for 4 seconds": func(s *several, i int) {
		s.signal(i, syscall.SIGSTOP)
		pause(s.t, 4*time.Second)
		s.signal(i, syscall.SIGCONT)
		assert.Equal(s.t, "3", s.alive(), "it lives all the time")
	},
	"cut off from the records for 4 seconds": func(s *several, i int) {
		restore := s.taps[i].Sever()
		s.until("2")
		pause(s.t, 4*time.Second)
		restore()
		s.until("3")
	},
}

// pause lets others act for a while.
func pause(t *testing.T, d time.Duration) {
	select {
	case <-time.After(d):
	case <-t.Context().Done():
	}
}

// TestThreeServices: fifty clients act at three services on the same records, one of which is struck;
// each in turn where the table is written. No deployment is lost, doubled or stuck, no schedule fires twice, and no follower
// misses an event.
func TestThreeServices(t *testing.T) {
	var lines []string
	for n, name := range slices.Sorted(maps.Keys(mishaps)) {
		t.Run(name, func(t *testing.T) {
			s := startSeveral(t, 3)
			_, err := s.services[0].Submit(t.Context(), "harbour", folderOf(5))
			require.NoError(t, err)
			s.until("3")
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			s.schedule(20)
			ended := s.load(ctx, 50)
			for i := range s.services {
				if *update || i == n {
					mishaps[name](s, i)
				}
			}
			cancel()
			ended()
			s.settled()
			count := s.outcomes()
			s.onceEach()
			t.Logf("%v, %d refusals, %d calls to a service that went away", count, s.refusals, s.lostCalls)
			assert.Positive(t, count[deploy.Done])
			if !t.Failed() {
				lines = append(lines, fmt.Sprintf("| %s | %d | %d | %d | %d | %d | %d | %d |", name, count[deploy.Done],
					count[deploy.Interrupted], count[deploy.Failed]+count[deploy.Cancelled], len(s.heard), s.compared,
					s.entries, s.lostCalls))
			}
		})
	}
	if *update {
		_, whole, path := documented(t, "three services", strings.Join(append([]string{
			"| each of three services in turn | deployments done | interrupted | failed or cancelled | followed to the end | " +
				"events compared | ledger rows compared | calls that met a service that was away |",
			"|---|---|---|---|---|---|---|---|",
		}, lines...), "\n")+"\n")
		require.NoError(t, os.WriteFile(path, []byte(whole), 0o600))
	}
}
