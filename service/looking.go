package service

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"vorrang/internal/safely"
	"vorrang/service/api"
)

// looking keeps the service gentle to the databases that it watches: what many
// ask for at once is checked once, and only so many targets are checked at a
// time.
type looking struct {
	group singleflight.Group
	room  chan struct{}
	epoch atomic.Int64 // goes on with everything that may change a status

	mu   sync.Mutex
	seen map[string]lookedAtOnce // the newest look at each target, by lane and environment
}

// lookedAtOnce is what a look found.
type lookedAtOnce struct {
	status api.EnvironmentStatus
	at     time.Time
}

// keep keeps a look as the newest.
func (l *looking) keep(status api.EnvironmentStatus) {
	status.Steps, status.Gate = nil, nil
	l.mu.Lock()
	defer l.mu.Unlock()
	l.seen[status.Lane+"/"+status.Environment] = lookedAtOnce{status, time.Now()}
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

func newLooking() *looking {
	return &looking{room: make(chan struct{}, mostLooks), seen: map[string]lookedAtOnce{}}
}

// enter waits for room to look at a target; leave gives it back.
func (l *looking) enter(ctx context.Context) (leave func(), err error) {
	select {
	case l.room <- struct{}{}:
		return func() { <-l.room }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// changed makes sure that nobody who asks from now on is told what was seen
// before.
func (l *looking) changed() { l.epoch.Add(1) }

// once lets all who ask for the same status at the same time share one look. It
// goes on while anybody may wait for it, and ends by itself.
func (l *looking) once(
	ctx context.Context, key string, look func(context.Context) (api.EnvironmentStatus, error),
) (api.EnvironmentStatus, error) {
	answer := l.group.DoChan(fmt.Sprintf("%s %d", key, l.epoch.Load()), func() (any, error) {
		within, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*lookTimeout)
		defer cancel()
		var status api.EnvironmentStatus
		err := safely.Do(func() (err error) { status, err = look(within); return err })
		if err == nil {
			l.keep(status)
		}
		return status, err
	})
	select {
	case result := <-answer:
		status, _ := result.Val.(api.EnvironmentStatus) // its zero value with an error
		return status, result.Err
	case <-ctx.Done():
		return api.EnvironmentStatus{}, ctx.Err()
	}
}
