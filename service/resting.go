package service

import (
	"context"
	"strings"
	"sync"
	"time"

	"vorrang/core/engine"
	"vorrang/core/lane"
)

const (
	// restsFor is for how long the session of a look is kept: the next look of a page comes after
	// lookEvery. It is less than the 5 s for which PostgreSQL waits for sessions to leave a database
	// that is to be renamed, dropped or copied; one that is used again leaves when somebody waits.
	//
	// Source: PostgreSQL's CountOtherDBBackends.
	restsFor = lookEvery + time.Second
	// oldestRest is how long ago a session began at most: a name may lead to another server since, and
	// a user may be let in no more.
	oldestRest = 20 * time.Second
	// askFor bounds the question whether a session may look again.
	askFor = time.Second
	// mostResting is how many targets have such a session, in one service.
	mostResting = 64
)

// resting keeps the sessions of looks for a short while, so that pages, which look again and
// again, do not connect each time. A target has one at most: as an environment's own, and as that of the one
// before another.
type resting struct {
	long time.Duration // that each is kept

	mu      sync.Mutex
	kept    map[string]*keptSession // by what it is connected to
	stopped bool
}

type keptSession struct {
	session engine.Session
	began   time.Time
	late    *time.Timer
}

// take gives the session that rests under a key, and says when it began, or nil: where there is none,
// where it cannot look again, and where somebody waits for the target to be left.
func (r *resting) take(ctx context.Context, key string) (engine.Session, time.Time) {
	r.mu.Lock()
	one := r.kept[key]
	delete(r.kept, key) // who does so owns it
	r.mu.Unlock()
	if one == nil {
		return nil, time.Time{}
	}
	one.late.Stop()
	ctx, cancel := context.WithTimeout(ctx, askFor) // its network may be gone, where a new one has another
	defer cancel()
	if !one.session.(engine.Rester).MayStay(ctx) {
		one.session.Close()
		return nil, time.Time{}
	}
	return one.session, one.began
}

// give lets a session that began at a time rest under a key, or closes it.
func (r *resting) give(key string, session engine.Session, began time.Time) {
	rester, can := session.(engine.Rester)
	if !can || !rester.Clean() || time.Since(began) > oldestRest || !r.keep(key, &keptSession{session: session, began: began}) {
		session.Close()
	}
}

// keep keeps a session until it is taken, or late; false where there is no room.
func (r *resting) keep(key string, one *keptSession) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.stopped || r.kept[key] != nil || len(r.kept) == mostResting {
		return false
	}
	if r.kept == nil {
		r.kept = map[string]*keptSession{}
	}
	r.kept[key] = one
	one.late = time.AfterFunc(r.long, func() {
		r.mu.Lock()
		rests := r.kept[key] == one
		if rests {
			delete(r.kept, key)
		}
		r.mu.Unlock()
		if rests {
			one.session.Close()
		}
	})
	return true
}

// stop ends all that rest; none does from now on.
func (r *resting) stop() {
	r.mu.Lock()
	kept := r.kept
	r.kept, r.stopped = nil, true
	r.mu.Unlock()
	for _, one := range kept {
		one.late.Stop()
		one.session.Close()
	}
}

// borrow opens a session to look at a target, or gives the one of the last look where a page
// asks. back must be called at the end, with whether the look ended well.
func (s *targets) borrow(
	ctx context.Context, p targetContext, application string,
) (session engine.Session, back func(well bool), err error) {
	key := s.restsAs(ctx, p, application)
	var began time.Time
	if key != "" {
		session, began = s.resting.take(ctx, key)
	}
	if session == nil {
		began = time.Now()
		if session, err = s.connect(ctx, p, application); err != nil {
			return nil, nil, err
		}
	}
	return session, func(well bool) {
		if key == "" || !well {
			session.Close()
			return
		}
		s.resting.give(key, session, began)
	}, nil
}

// restsAs is what a page's session is kept under: all that it was made by. It is empty where none is
// kept: for who wants what is so now, and for a fleet's targets, of which each is looked at more seldom.
func (s *targets) restsAs(ctx context.Context, p targetContext, application string) string {
	if ctx.Value(pageKey{}) == nil || lane.TargetOf(p.environment.Name) != "" {
		return ""
	}
	e := p.environment
	url, err := s.resolve(e.Target)
	if err != nil {
		return ""
	}
	key := ""
	if e.LedgerRole != "" {
		if key, err = s.resolve(e.LedgerKey); err != nil {
			return ""
		}
	}
	return strings.Join(append([]string{application, p.lane.Engine, url, e.LedgerRole, key}, e.Schemas...), "\x00")
}
