package service

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"vorrang/internal/safely"
	"vorrang/service/api"
)

// looking keeps the service gentle to the databases that it watches: what many
// ask for at once is looked at once, and only so many targets are looked at at a
// time.
type looking struct {
	group singleflight.Group
	room  chan struct{}
	epoch atomic.Int64 // goes on with everything that may change a status
}

const (
	mostLooks = 16 // targets that are looked at at once, over all requests
	// readPatience bounds how long a request that only reads may take.
	readPatience = time.Minute
)

func newLooking() *looking { return &looking{room: make(chan struct{}, mostLooks)} }

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
