package service

import (
	"context"
	"time"
)

// pulse does work at its times: when the next is due, and when somebody says
// that there is something new.
type pulse struct {
	next  func(context.Context) (at time.Time, waits bool, err error) // when something is due next
	round func(context.Context) error                                 // does what is due
	news  chan struct{}
}

func newPulse(next func(context.Context) (time.Time, bool, error), round func(context.Context) error) *pulse {
	return &pulse{next: next, round: round, news: make(chan struct{}, 1)}
}

// wake says that something is new.
func (p *pulse) wake() {
	select {
	case p.news <- struct{}{}:
	default: // it is awake
	}
}

const (
	longestPulse = time.Minute     // also so that a change of the machine's clock is noticed
	pulseAfter   = 5 * time.Second // an error: the records are away
)

// work goes on until ctx is done.
func (p *pulse) work(ctx context.Context) {
	for {
		wait := longestPulse
		at, waits, err := p.next(ctx)
		if err == nil && waits {
			wait = min(wait, max(time.Until(at), 0))
		}
		if err == nil && waits && wait == 0 {
			err = p.round(ctx)
		}
		if err != nil {
			wait = pulseAfter
		}
		select {
		case <-ctx.Done():
			return
		case <-p.news:
		case <-time.After(wait):
		}
	}
}
