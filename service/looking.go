package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofiber/fiber/v3"

	"vorrang/core/gate"
	"vorrang/internal/safely"
	"vorrang/service/api"
)

// looking keeps the service gentle to the databases that it watches: what many
// ask for at once is checked once, and only so many targets are checked at a
// time.
type looking struct {
	now      func() time.Time
	room     chan struct{}
	aside    chan struct{} // for targets that did not answer when they were read last
	patience time.Duration // that a look at one target may take
	epoch    atomic.Int64  // goes on with everything that may change a status

	mu   sync.Mutex
	seen map[string]lookedAtOnce // the newest look at each target, by lane and environment
	told map[question]told       // answers that are given again

	flights map[string]*flight // what is under way, by its key
}

// question is what is asked of a place: its status, with its steps or without.
type question struct {
	place string
	steps bool
}

// told is an answer that is given again for a while.
type told struct {
	status api.EnvironmentStatus
	epoch  int64
	until  time.Time
	anyway time.Time // until then also where something changed
}

const (
	// fleetRests is how often longer a fleet is left alone than it took to read it, and fleetRestsAnyway
	// where something changed meanwhile: hundreds of targets take seconds.
	fleetRests       = 10
	fleetRestsAnyway = 3
	// mostRest bounds it.
	mostRest = time.Minute
)

// lookEvery is for how long an answer is given again to those who do not ask for a new one,
// as pages do that read it again and again.
const lookEvery = 2 * time.Second

// freshKey marks a context whose caller wants what is so now.
type freshKey struct{}

// fresh is a call's context. With Cache-Control: no-cache its caller wants a new answer.
//
// Source: RFC 9111, 5.2.1.4.
func fresh(c call) context.Context {
	if c.fiber == nil || !strings.Contains(c.fiber.Get(fiber.HeaderCacheControl), "no-cache") {
		return c
	}
	return context.WithValue(c, freshKey{}, true)
}

// again is an answer that was given less than lookEvery ago, since when nothing was changed
// by this service.
func (l *looking) again(ctx context.Context, asked question) (api.EnvironmentStatus, bool) {
	if ctx.Value(freshKey{}) != nil {
		return api.EnvironmentStatus{}, false
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.now()
	for _, key := range []question{asked, {asked.place, true}} { // the answer with its steps holds both
		one, known := l.told[key]
		if known && (now.Before(one.anyway) || one.epoch == l.epoch.Load() && now.Before(one.until)) {
			return one.status, true
		}
	}
	return api.EnvironmentStatus{}, false
}

// tellAgain keeps an answer to a question that was asked at a time, and in an epoch.
func (l *looking) tellAgain(key question, status api.EnvironmentStatus, epoch int64, asked time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for other, one := range l.told {
		if !asked.Before(one.until) {
			delete(l.told, other)
		}
	}
	if l.told[key].status.ReadAt.After(status.ReadAt) { // a look that began later ended first
		return
	}
	one := told{status: status, epoch: epoch, until: asked.Add(lookEvery)}
	if status.Fleet != nil {
		now := l.now()
		took := now.Sub(asked)
		one.until = now.Add(min(max(lookEvery, fleetRests*took), mostRest))
		one.anyway = now.Add(min(fleetRestsAnyway*took, mostRest))
	}
	l.told[key] = one
}

// lookedAtOnce is what a look found.
type lookedAtOnce struct {
	status api.EnvironmentStatus
	at     time.Time
}

// keep keeps a look as the newest, unless one that began later ended first.
func (l *looking) keep(status api.EnvironmentStatus) {
	status.Steps, status.Gate = nil, []gate.Check{}
	l.mu.Lock()
	defer l.mu.Unlock()
	key := status.Lane + "/" + status.Environment
	if !l.seen[key].status.ReadAt.After(status.ReadAt) {
		l.seen[key] = lookedAtOnce{status, time.Now()}
	}
}

// newest is the newest look at a target; false if nobody looked since the start.
func (l *looking) newest(lane, environment string) (lookedAtOnce, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	one, known := l.seen[lane+"/"+environment]
	return one, known
}

const (
	mostLooks = 16 // targets that are checked at once, over all requests
	// readPatience bounds how long a request that only reads may take.
	readPatience = time.Minute
)

func newLooking(now func() time.Time) *looking {
	return &looking{now: now, room: make(chan struct{}, mostLooks), aside: make(chan struct{}, mostLooks),
		patience: lookTimeout, seen: map[string]lookedAtOnce{},
		told: map[question]told{}, flights: map[string]*flight{}}
}

// enter waits for room to look at a target; leave gives it back. What is done there within the
// context has as long as a look may take. Those that did not answer last time have a room of
// their own, so that others need not wait until they do not again.
func (l *looking) enter(ctx context.Context, p targetContext) (within context.Context, leave func(), err error) {
	room := l.room
	if last, known := l.newest(p.lane.Name, p.environment.Name); known && !last.status.Reached {
		room = l.aside
	}
	select {
	case room <- struct{}{}:
		within, cancel := context.WithTimeout(ctx, l.patience)
		return within, func() { cancel(); <-room }, nil
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	}
}

// waitKey marks a context whose caller waits for targets until a time only.
type waitKey struct{}

// waiting is a context in which looks are waited for so many seconds; 0 is until they end.
func waiting(ctx context.Context, seconds int) context.Context {
	if seconds == 0 {
		return ctx
	}
	return context.WithValue(ctx, waitKey{}, time.Now().Add(time.Duration(seconds)*time.Second))
}

// unfinished is what is known of a target while a look at it goes on, which nobody waits for any
// more: what the last one saw, or else what is declared.
func (l *looking) unfinished(p targetContext) api.EnvironmentStatus {
	status := nothingSeen(p)
	if last, known := l.newest(p.lane.Name, p.environment.Name); known && last.status.Target == status.Target {
		status = last.status
	}
	status.Reading = true
	return status
}

// changed makes sure that nobody who asks from now on is told what was seen
// before.
func (l *looking) changed() { l.epoch.Add(1) }

// flight is a look that some wait for.
type flight struct {
	cancel context.CancelFunc
	wait   int           // so many
	done   chan struct{} // closed once status and err stand
	status api.EnvironmentStatus
	err    error
}

// join makes the caller one of those who wait for a look, and begins it where nobody does. Every one of
// them calls leave.
func (l *looking) join(
	ctx context.Context, key string, look func(context.Context) (api.EnvironmentStatus, error),
) (f *flight, leave func()) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if f = l.flights[key]; f == nil {
		within, cancel := context.WithTimeout(context.WithoutCancel(ctx), readPatience)
		f = &flight{cancel: cancel, done: make(chan struct{})}
		l.flights[key] = f
		go func() {
			f.err = safely.Do(func() (err error) { f.status, err = look(within); return err })
			l.mu.Lock()
			l.forget(key, f) // who asks from now on has a look of their own
			l.mu.Unlock()
			close(f.done)
		}()
	}
	f.wait++
	return f, func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		if f.wait--; f.wait == 0 { // it has ended, or nobody waits for it
			f.cancel()
			l.forget(key, f)
		}
	}
}

// forget lets nobody join a flight any more; the lock is held.
func (l *looking) forget(key string, f *flight) {
	if l.flights[key] == f {
		delete(l.flights, key)
	}
}

// once lets all who ask for the same status at the same time share one look, and those who
// ask soon after. It goes on while anybody waits for it, and ends by itself. For who waits no
// longer it goes on too: they ask again.
func (l *looking) once(
	ctx context.Context, p targetContext, steps bool, look func(context.Context) (api.EnvironmentStatus, error),
) (api.EnvironmentStatus, error) {
	key := question{placeName(p), steps}
	if status, known := l.again(ctx, key); known {
		return status, nil
	}
	epoch := l.epoch.Load()
	page := ctx.Value(freshKey{}) == nil
	f, leave := l.join(ctx, fmt.Sprintf("%s %t %d %t", key.place, key.steps, epoch, page),
		func(within context.Context) (api.EnvironmentStatus, error) {
			asked := l.now()
			within = context.WithValue(within, waitKey{}, nil) // it goes on to its end
			if page {
				within = context.WithValue(within, pageKey{}, true)
			}
			status, err := look(within)
			if errors.Is(within.Err(), context.Canceled) { // it saw less than there is
				err = within.Err()
			}
			if err == nil {
				status.ReadAt = asked.UTC()
				l.keep(status)
				l.tellAgain(key, status, epoch, asked)
			}
			return status, err
		})
	var enough <-chan time.Time
	if until, bounded := ctx.Value(waitKey{}).(time.Time); bounded {
		timer := time.NewTimer(time.Until(until))
		defer timer.Stop()
		enough = timer.C
	}
	select {
	case <-f.done:
		defer leave()
		return f.status, f.err
	case <-ctx.Done():
		defer leave()
		return api.EnvironmentStatus{}, ctx.Err()
	case <-enough:
		go func() { // whoever asks next has what it finds
			defer leave()
			<-f.done
		}()
		return l.unfinished(p), nil
	}
}
