package service

import (
	"context"
	"log/slog"
	"time"

	"vorrang/internal/safely"
)

// scheduler does work at its times: when the next is due, and when somebody says
// that there is something new.
type scheduler struct {
	name  string
	log   *slog.Logger
	next  func(context.Context) (at time.Time, waits bool, err error) // when something is due next
	round func(context.Context) error                                 // does what is due
	news  chan struct{}
}

func newScheduler(name string, log *slog.Logger, next func(context.Context) (time.Time, bool, error), round func(context.Context) error) *scheduler {
	return &scheduler{name: name, log: log, next: next, round: round, news: make(chan struct{}, 1)}
}

// wake says that something is new.
func (p *scheduler) wake() {
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
func (p *scheduler) work(ctx context.Context) {
	for {
		wait := longestPulse
		err := safely.Do(func() error {
			at, waits, err := p.next(ctx)
			if err != nil || !waits {
				return err
			}
			if wait = min(wait, max(time.Until(at), 0)); wait == 0 {
				err = p.round(ctx)
			}
			return err
		})
		if err != nil {
			wait = pulseAfter
			p.log.Warn("work in the background comes later", "work", p.name, "after", pulseAfter.String(), "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-p.news:
		case <-time.After(wait):
		}
	}
}
