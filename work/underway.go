package work

import (
	"context"
	"sync"
)

// underWay is what runs here, by its number, so that others can watch and cancel it.
type underWay struct {
	mu      sync.Mutex
	feeds   map[int64]*Feed
	cancels map[int64]context.CancelCauseFunc
}

func newUnderWay() *underWay {
	return &underWay{feeds: map[int64]*Feed{}, cancels: map[int64]context.CancelCauseFunc{}}
}

// begin gives what runs its context and its feed. Once end was called it is not found any
// more, and its context has ended; the feed is the caller's to close.
func (u *underWay) begin(parent context.Context, id int64) (ctx context.Context, live *Feed, end func()) {
	live = newFeed()
	ctx, cancel := context.WithCancelCause(parent)
	u.mu.Lock()
	defer u.mu.Unlock()
	u.feeds[id], u.cancels[id] = live, cancel
	return ctx, live, func() {
		u.mu.Lock()
		delete(u.feeds, id)
		delete(u.cancels, id)
		u.mu.Unlock()
		cancel(nil)
	}
}

// Feed returns the live events of what runs, or nil where it does not run here, or others tell
// how it ends.
func (u *underWay) Feed(id int64) *Feed {
	u.mu.Lock()
	defer u.mu.Unlock()
	if live := u.feeds[id]; live != nil && !live.left() {
		return live
	}
	return nil
}

// Cancel stops what runs: a deployment's statement is cancelled, and its step rolled back. It
// returns false if that is not running here.
func (u *underWay) Cancel(id int64, why error) bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	cancel, running := u.cancels[id]
	if running {
		cancel(why)
	}
	return running
}
