package records

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"vorrang/core/engine"
)

// guard keeps other services away from the records, by a lock that belongs to
// a session. A restart of the records' server ends the session, and the lock is
// taken again as soon as it can be.
type guard struct {
	server engine.Engine
	url    string
	stop   context.CancelFunc
	done   chan struct{}

	mu    sync.Mutex
	other *engine.LockedError // somebody else was faster
}

// guardEvery is how often the guard looks after its session.
const guardEvery = time.Second

func watchOver(session engine.Session, server engine.Engine, url string) *guard {
	ctx, stop := context.WithCancel(context.Background())
	g := &guard{server: server, url: url, stop: stop, done: make(chan struct{})}
	go func() {
		defer close(g.done)
		g.watch(ctx, session)
	}()
	return g
}

func (g *guard) watch(ctx context.Context, session engine.Session) {
	ticks := time.NewTicker(guardEvery)
	defer ticks.Stop()
	for {
		select {
		case <-ctx.Done():
			session.Close()
			return
		case <-ticks.C:
		}
		if session.Alive(ctx) == nil && g.ours() == nil {
			continue
		}
		session.Close()
		if again, err := g.server.Open(ctx, g.url, "vorrangd"); err == nil {
			session = again
			g.note(session.Lock(ctx))
		}
	}
}

// note keeps in mind what became of the try to take the lock again.
func (g *guard) note(err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	var locked *engine.LockedError
	if err == nil || errors.As(err, &locked) {
		g.other = locked
	}
}

// ours is an error if another service has these records now.
func (g *guard) ours() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.other == nil {
		return nil
	}
	return fmt.Errorf("another vorrangd has taken these records over (%w); stop one of them", g.other)
}

// end lets the lock go.
func (g *guard) end() {
	g.stop()
	<-g.done
}
