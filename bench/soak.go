package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing/fstest"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/service/api"
)

// soakFor is how long the service is kept busy in place of being measured against others.
var soakFor = flag.Duration("soak", 0,
	"keep three services busy for so long, restart them meanwhile, and say what stayed level")

const (
	soakLanes    = 20 // of one target each; one more has a fleet
	soakFleet    = 8  // targets
	soakServices = 3
	soakWorkers  = 8
	soakSamples  = 120
)

// soak keeps lanes of three engines busy at three services on the same records: promotions,
// rollbacks, rehearsals, looks. One of the services is stopped or killed, and started again,
// every tenth of the time.
type soak struct {
	*bench
	services []*served
	mu       sync.Mutex
	done     map[string]int            // what was done, and what came of it
	lanes    [soakLanes + 1]sync.Mutex // the last is the fleet's
	samples  []sample
	strange  []string // answers that nobody expected
	restarts int
	cuts     atomic.Int64 // calls that a restart cut off

	restarting atomic.Bool // one of the services is away
}

// sample is what the service used at some time.
type sample struct {
	memory, goroutines, files, connections, records int64
	deployments, entries                            int64
}

func (b *bench) soak(ctx context.Context, d time.Duration) error {
	s := &soak{bench: b, services: []*served{b.served}, done: map[string]int{}}
	for i := range soakServices - 1 {
		one := newServed(b.port + 10 + i)
		s.services = append(s.services, one)
		if err := b.launch(ctx, one); err != nil {
			return err
		}
		defer one.end(os.Interrupt)
	}
	for i := range soakLanes {
		if err := s.declareLane(ctx, i); err != nil {
			return err
		}
	}
	if err := s.declareFleet(ctx); err != nil {
		return err
	}
	busy, cancel := context.WithTimeout(ctx, d)
	defer cancel()
	var workers sync.WaitGroup
	for range soakWorkers {
		workers.Go(func() { s.work(busy) })
	}
	workers.Go(func() { s.watch(busy, d/soakSamples) })
	workers.Go(func() { s.restart(busy, d/10) })
	workers.Wait()
	return s.report(d)
}

func lane(i int) string { return fmt.Sprintf("soak%02d", i+1) }

// steps are those of a lane; its engine takes them all.
func steps(i int) fstest.MapFS {
	files := fstest.MapFS{}
	for n := range 6 {
		files[fmt.Sprintf("%d-create-berth.sql", n+1)] = &fstest.MapFile{
			Data: fmt.Appendf(nil, "CREATE TABLE berth_%d_%d (id INTEGER PRIMARY KEY, name VARCHAR(80));", i, n)}
		files[fmt.Sprintf("%d-create-berth.back.sql", n+1)] = &fstest.MapFile{
			Data: fmt.Appendf(nil, "DROP TABLE berth_%d_%d;", i, n)}
	}
	return files
}

func (s *soak) declareLane(ctx context.Context, i int) error {
	engine := []string{"postgresql", "mariadb", "sqlite"}[i%3]
	var url string
	switch engine {
	case "postgresql":
		url = s.url(lane(i))
		if err := s.exec(ctx, "postgres", "CREATE DATABASE "+lane(i)); err != nil {
			return err
		}
	case "mariadb":
		url = fmt.Sprintf("mysql://vorrang:%s@127.0.0.1:%d/%s", password, s.mariaPort(), lane(i))
		if err := s.mariadb("mysql", "CREATE DATABASE "+lane(i)); err != nil {
			return err
		}
	case "sqlite":
		url = "sqlite:" + lane(i) + ".db"
		if err := os.WriteFile(filepath.Join(s.folder, "sqlite", lane(i)+".db"), nil, 0o600); err != nil {
			return err
		}
	}
	reference, err := s.reference(lane(i), url)
	if err != nil {
		return err
	}
	text := fmt.Sprintf("lane: %s\nengine: %s\n"+
		"environments: [{name: only, target: %q, scratch: %[3]q, disposable: true}]\n", lane(i), engine, reference)
	return s.submit(ctx, i, text)
}

// declareFleet declares the lane whose environment has several targets.
func (s *soak) declareFleet(ctx context.Context) error {
	list := ""
	for i := range soakFleet {
		database := fmt.Sprintf("soakfleet%d", i+1)
		if err := s.exec(ctx, "postgres", "CREATE DATABASE "+database); err != nil {
			return err
		}
		list += gauge(i) + " " + s.url(database) + "\n"
	}
	file := filepath.Join(s.folder, "soakfleet.list")
	if err := os.WriteFile(file, []byte(list), 0o600); err != nil {
		return err
	}
	scratch, err := s.reference("soakfleet", s.url("soakfleet1"))
	if err != nil {
		return err
	}
	return s.submit(ctx, soakLanes, fmt.Sprintf("lane: %s\nenvironments:\n  - {name: only, targets: \"file:%s\", "+
		"scratch: %q, disposable: true, waves: {canary: 1, size: 4, at-once: 2}}\n", lane(soakLanes), file, scratch))
}

func gauge(i int) string { return fmt.Sprintf("gauge%d", i+1) }

// submit declares a lane, and submits its steps.
func (s *soak) submit(ctx context.Context, i int, text string) error {
	if _, err := s.client.Declare(ctx, "lane.yaml", []byte(text)); err != nil {
		return err
	}
	_, err := s.client.Submit(ctx, lane(i), steps(i))
	return err
}

// work does one thing after another, each on a lane that nobody else is at.
func (s *soak) work(ctx context.Context) {
	for ctx.Err() == nil {
		i := rand.IntN(len(s.lanes))
		if !s.lanes[i].TryLock() {
			continue
		}
		if s.act(ctx, i) {
			time.Sleep(50 * time.Millisecond) // the service is away
		}
		s.lanes[i].Unlock()
	}
}

// any is the client of one of the services.
func (s *soak) any() *client.Client { return s.services[rand.IntN(len(s.services))].client }

// act does one thing on a lane, and reports whether a restart cut it off.
func (s *soak) act(ctx context.Context, i int) (cut bool) {
	defer func(before int64) { cut = s.cuts.Load() > before }(s.cuts.Load())
	name, place, at, which := lane(i), "only", s.any(), ""
	if i == soakLanes {
		which = "fleet's "
		if rand.IntN(2) == 0 {
			place, which = "only."+gauge(rand.IntN(soakFleet)), "target's of the fleet "
		}
	}
	began := func(what string, promoted *api.Promoted, err error) {
		outcome := deploy.Outcome("asked for")
		switch {
		case err != nil:
		case promoted.Fleet != nil:
			err = s.any().FollowFleet(ctx, promoted.Fleet.ID, func(f *api.FleetDeployment) error {
				outcome = f.Outcome
				return nil
			})
		case promoted.Deployment != nil:
			outcome, err = s.ended(ctx, promoted.Deployment.ID)
		default:
			outcome = "of nothing"
		}
		s.count(ctx, fmt.Sprintf("%s%s %s", which, what, outcome), err)
	}
	switch n := rand.IntN(10); {
	case n < 3:
		promoted, err := at.Promote(ctx, name, place, client.Promotion{})
		var held *client.Error
		if errors.As(err, &held) && held.Type == "urn:vorrang:in-doubt" { // a kill met a change of a schema
			promoted, err = at.Rebuild(ctx, name, "only", "only")
			began("rebuild", promoted, err)
			return cut
		}
		began("promotion", promoted, err)
	case n < 5:
		promoted, err := at.Rollback(ctx, name, place, client.Way{Last: 1 + rand.IntN(6)}, "")
		began("rollback", promoted, err)
	case n == 5:
		r, err := at.Rehearse(ctx, name, place, client.Rehearsal{}, nil)
		what := "rehearsal"
		if err == nil {
			what += " " + string(r.State)
		}
		s.count(ctx, which+what, err)
	case n < 8:
		_, err := at.Status(ctx, name, place, "all")
		s.count(ctx, which+"look", err)
	case n == 8:
		v, err := at.Verify(ctx, name, "")
		what := "verification"
		if err == nil && len(v.Deviations) > 0 { // such as a step in doubt, after a kill
			what += " " + string(v.Deviations[0].Kind)
		}
		s.count(ctx, which+what, err)
	default:
		_, err := at.Drift(ctx, name, place)
		s.count(ctx, which+"look for drift", err)
	}
	return cut
}

// ended waits for a deployment's end, at whichever service.
func (s *soak) ended(ctx context.Context, deployment int64) (deploy.Outcome, error) {
	if err := s.any().Follow(ctx, deployment, 0, func(deploy.Event) error { return nil }); err != nil {
		return "", err
	}
	d, err := s.any().Deployment(ctx, deployment)
	if err != nil {
		return "", err
	}
	return d.Outcome, nil
}

// count counts what was done. Restarts cut calls off, and refusals are part of it (nothing to apply, nothing to roll
// back); what is neither done nor refused is strange, but for what the end cut off.
func (s *soak) count(ctx context.Context, what string, err error) {
	var answered *client.Error
	var away *client.UnreachableError
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case err == nil:
		s.done[what]++
	case ctx.Err() != nil:
	case errors.As(err, &away), errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ECONNREFUSED),
		errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF), errors.Is(err, syscall.ECONNRESET),
		errors.As(err, &answered) && answered.Status == http.StatusServiceUnavailable:
		s.done["cut off by a restart"]++
		s.cuts.Add(1)
	case errors.As(err, &answered) && (answered.Status == http.StatusConflict || answered.Status == http.StatusBadRequest):
		s.done[what+" refused"]++
	default:
		s.strange = append(s.strange, what+": "+err.Error())
	}
}

// restart stops or kills one of the services every so often, and starts it again.
func (s *soak) restart(ctx context.Context, every time.Duration) {
	for kill := false; ; kill = !kill {
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
		signal := os.Signal(os.Interrupt)
		if kill {
			signal = syscall.SIGKILL // in the middle of whatever it does
		}
		one := s.services[s.restarts%len(s.services)]
		s.restarting.Store(true)
		one.end(signal)
		err := s.launch(context.WithoutCancel(ctx), one)
		s.restarting.Store(false)
		s.mu.Lock()
		s.restarts++
		s.mu.Unlock()
		if err != nil {
			s.count(ctx, "start", err)
			return
		}
	}
}

// watch takes samples.
func (s *soak) watch(ctx context.Context, every time.Duration) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
		one, err := s.sample(ctx)
		if err != nil && s.restarting.Load() {
			continue // there is no process to look at
		}
		if err != nil {
			s.count(ctx, "sample", err)
			continue
		}
		s.mu.Lock()
		s.samples = append(s.samples, one)
		s.mu.Unlock()
	}
}

// sample is of all services together.
func (s *soak) sample(ctx context.Context) (one sample, err error) {
	for _, service := range s.services {
		memory, err := service.memory("VmRSS")
		if err != nil {
			return one, err
		}
		files, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", service.pid.Load()))
		if err != nil {
			return one, err
		}
		goroutines, err := service.metric(ctx, "go_goroutines")
		if err != nil {
			return one, err
		}
		one.memory, one.files, one.goroutines = one.memory+memory, one.files+int64(len(files)), one.goroutines+goroutines
	}
	conn, err := pgx.Connect(ctx, s.url("records"))
	if err != nil {
		return one, err
	}
	defer conn.Close(ctx)
	err = conn.QueryRow(ctx, `SELECT (SELECT count(*) FROM pg_stat_activity WHERE application_name LIKE 'vorrangd%'),
		pg_database_size('records'), (SELECT count(*) FROM records.deployment),
		(SELECT coalesce(sum(seq), 0)::bigint FROM records.head)`).
		Scan(&one.connections, &one.records, &one.deployments, &one.entries)
	return one, err
}

func (s *served) metric(ctx context.Context, name string) (int64, error) {
	body, err := s.get(ctx, "/metrics")
	if err != nil {
		return 0, err
	}
	defer body.Close()
	for lines := bufio.NewScanner(body); lines.Scan(); {
		if value, is := strings.CutPrefix(lines.Text(), name+" "); is {
			number, err := strconv.ParseFloat(value, 64)
			return int64(number), err
		}
	}
	return 0, fmt.Errorf("there is no metric %s", name)
}
