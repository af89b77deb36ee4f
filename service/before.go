package service

import (
	"context"
	"sync"
	"time"

	"vorrang/core/lane"
	"vorrang/core/verify"
	"vorrang/internal/safely"
)

// lookedBefore is what was seen of the environment before, or of one target of its fleet.
type lookedBefore struct {
	seen      verify.Environment
	unreached string // why it could not be read; empty where it could
}

// befores keeps for a moment what was seen of the environment before a fleet: the gates of hundreds of
// targets ask for it at the same time.
type befores struct {
	mu   sync.Mutex
	kept *keptBefore
}

type keptBefore struct {
	once sync.Once
	at   time.Time
	list []lookedBefore
	err  error
}

// newest is what was seen less than lookEvery ago, or is to be seen now.
func (b *befores) newest() *keptBefore {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.kept == nil || time.Since(b.kept.at) > lookEvery {
		b.kept = &keptBefore{at: time.Now()}
	}
	return b.kept
}

// lookBefore looks at the environment before that of a place: at its target, or at each of its fleet
// that is not set aside. The list is not empty. Where there is a shared one, what was seen a moment ago
// will do.
func (s *gates) lookBefore(
	ctx context.Context, p targetContext, before string, shared *befores,
) ([]lookedBefore, error) {
	e, _ := p.lane.Environment(before)
	if shared == nil {
		return s.lookBeforeNow(ctx, p, e)
	}
	one := shared.newest()
	one.once.Do(func() {
		one.err = context.Canceled // where the look ends by a fault
		within, cancel := context.WithTimeout(context.WithoutCancel(ctx), readPatience)
		defer cancel()
		if fault := safely.Do(func() error { one.list, one.err = s.lookBeforeNow(within, p, e); return nil }); fault != nil {
			one.err = fault
		}
		shared.mu.Lock()
		one.at = time.Now()
		shared.mu.Unlock()
	})
	return one.list, one.err
}

func (s *gates) lookBeforeNow(ctx context.Context, p targetContext, e lane.Environment) ([]lookedBefore, error) {
	catalogue, err := s.Records.Catalogue(ctx, p.lane.Name)
	if err != nil {
		return nil, err
	}
	places := []targetContext{s.targets.at(p.lane, e, catalogue)}
	if e.Fleet != nil {
		if places, err = s.targets.inUse(ctx, places[0]); err != nil {
			return []lookedBefore{{seen: verify.Environment{Name: e.Name}, unreached: unreachable(err).Message}}, nil
		}
	}
	list := make([]lookedBefore, len(places))
	each(places, mostAtOnce, func(i int, there targetContext) {
		var err error
		if list[i].seen, err = s.targets.history(ctx, there, "vorrangd gate"); err != nil {
			list[i].unreached = unreachable(err).Message
		}
	})
	return list, nil
}
