package work

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"vorrang/internal/safely"
)

// Round does work at its times: when the next is due, and when it is told that
// there is something new.
type Round struct {
	name string
	next func(context.Context) (at time.Time, waits bool, err error) // when something is due next
	do   func(context.Context) error                                 // does what is due
	news chan struct{}
}

// NewRound is a round that nobody goes yet. name is for the log.
func NewRound(name string, next func(context.Context) (time.Time, bool, error), do func(context.Context) error) *Round {
	return &Round{name: name, next: next, do: do, news: make(chan struct{}, 1)}
}

// Wake says that something is new. It does not block.
func (p *Round) Wake() {
	select {
	case p.news <- struct{}{}:
	default: // it is awake
	}
}

const (
	longestPulse = time.Minute     // also so that a change of the machine's clock is noticed
	pulseAfter   = 5 * time.Second // an error: the records are away
)

// Rounds goes rounds until it is stopped.
type Rounds struct {
	going sync.WaitGroup
	ctx   context.Context // of what is under way
	halt  context.CancelFunc
}

// Start begins to go the rounds. It is called once.
func (r *Rounds) Start(log *slog.Logger, all ...*Round) {
	r.ctx, r.halt = context.WithCancel(context.Background())
	for _, one := range all {
		r.going.Go(func() { one.work(r.ctx, log) })
	}
}

// Do does something once, beside the rounds, after Start. Wait waits for it too.
func (r *Rounds) Do(log *slog.Logger, name string, do func(context.Context)) {
	r.going.Go(func() {
		if err := safely.Do(func() error { do(r.ctx); return nil }); err != nil {
			log.Warn("work in the background met a fault", "work", name, "error", err)
		}
	})
}

// Halt says that nothing new is to begin. Wait blocks until what was under way has ended.
func (r *Rounds) Halt() {
	if r.halt != nil {
		r.halt()
	}
}

// Wait blocks until all rounds have ended, after Halt.
func (r *Rounds) Wait() { r.going.Wait() }

// work goes on until ctx is done.
func (p *Round) work(ctx context.Context, log *slog.Logger) {
	for {
		wait := longestPulse
		err := safely.Do(func() error {
			at, waits, err := p.next(ctx)
			if err != nil || !waits {
				return err
			}
			if wait = min(wait, max(time.Until(at), 0)); wait == 0 {
				err = p.do(ctx)
			}
			return err
		})
		if err != nil {
			wait = pulseAfter
			log.Warn("work in the background comes later", "work", p.name, "after", pulseAfter.String(), "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-p.news:
		case <-time.After(wait):
		}
	}
}
