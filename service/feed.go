package service

import (
	"context"
	"sync"
	"time"

	"vorrang/core/deploy"
)

// feed holds the events of a running deployment for any number of readers.
type feed struct {
	mu     sync.Mutex
	events []deploy.Event // event n has Seq n+1
	ended  bool
	closed bool
	news   chan struct{} // closed and replaced at every change
}

func newFeed() *feed { return &feed{news: make(chan struct{})} }

func (f *feed) change(do func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	do()
	close(f.news)
	f.news = make(chan struct{})
}

func (f *feed) add(e deploy.Event) { f.change(func() { f.events = append(f.events, e) }) }

// end says that no event follows.
func (f *feed) end() { f.change(func() { f.ended = true }) }

// close says that the outcome is in the records.
func (f *feed) close() { f.change(func() { f.closed = true }) }

// after returns the events behind a number, which is 0 or more, and whether they
// are the last.
func (f *feed) after(seq int64) (events []deploy.Event, ended bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if seq < int64(len(f.events)) {
		events = f.events[seq:len(f.events):len(f.events)]
	}
	return events, f.ended
}

// waitFor blocks until there are events behind a number, the feed has ended, or
// done is closed.
func (f *feed) waitFor(seq int64, done <-chan struct{}) {
	f.wait(done, func() bool { return seq < int64(len(f.events)) || f.ended })
}

// waitEnd blocks until the feed has ended, but no longer than most.
func (f *feed) waitEnd(most time.Duration) {
	ctx, cancel := context.WithTimeout(context.Background(), most)
	defer cancel()
	f.wait(ctx.Done(), func() bool { return f.ended })
}

// waitClosed blocks until the outcome is in the records.
func (f *feed) waitClosed() {
	f.wait(nil, func() bool { return f.closed })
}

// wait blocks until is holds, or done is closed.
func (f *feed) wait(done <-chan struct{}, is func() bool) {
	for {
		f.mu.Lock()
		news, ready := f.news, is()
		f.mu.Unlock()
		if ready {
			return
		}
		select {
		case <-news:
		case <-done:
			return
		}
	}
}
