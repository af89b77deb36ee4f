package work

import (
	"context"
	"sync"
	"time"

	"vorrang/core/deploy"
)

// Feed holds the events of what runs for any number of readers. They are told what is in
// the records: after the service was killed, another one goes on from there.
type Feed struct {
	mu     sync.Mutex
	events []deploy.Event // event n has Seq n+1
	told   int64          // so many of them, to readers
	ended  bool
	gone   bool // it is another service's: readers go on from the records
	closed bool
	news   chan struct{} // closed and replaced at every change
}

func newFeed() *Feed { return &Feed{news: make(chan struct{})} }

func (f *Feed) change(do func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	do()
	close(f.news)
	f.news = make(chan struct{})
}

func (f *Feed) add(e deploy.Event) { f.change(func() { f.events = append(f.events, e) }) }

// release tells readers of the events up to a number, which are kept by now.
func (f *Feed) release(through int64) { f.change(func() { f.told = max(f.told, through) }) }

// all are the events after a number, told or not, and whether they are the last.
func (f *Feed) all(seq int64) (events []deploy.Event, ended bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.events[seq:len(f.events):len(f.events)], f.ended
}

// leave says that what follows is not told here.
func (f *Feed) leave() { f.change(func() { f.gone = true }) }

// left reports whether readers go on from the records.
func (f *Feed) left() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.gone
}

// over reports whether nothing more is told; the lock is held.
func (f *Feed) over() bool { return f.gone || f.ended && f.told == int64(len(f.events)) }

// end says that no event follows.
func (f *Feed) end() { f.change(func() { f.ended = true }) }

// close says that the outcome is in the records.
func (f *Feed) close() { f.change(func() { f.closed = true }) }

// After returns the events after a number, which is 0 or more, and whether they
// are the last that are told here.
func (f *Feed) After(seq int64) (events []deploy.Event, ended bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if seq < f.told {
		events = f.events[seq:f.told:f.told]
	}
	return events, f.over()
}

// WaitFor blocks until there are events after a number, the feed has ended, or
// done is closed.
func (f *Feed) WaitFor(seq int64, done <-chan struct{}) {
	f.wait(done, func() bool { return seq < f.told || f.over() })
}

// WaitEnd blocks until the feed has ended, but no longer than most.
func (f *Feed) WaitEnd(most time.Duration) {
	ctx, cancel := context.WithTimeout(context.Background(), most)
	defer cancel()
	f.wait(ctx.Done(), func() bool { return f.ended })
}

// WaitClosed blocks until the outcome is in the records.
func (f *Feed) WaitClosed() {
	f.wait(nil, func() bool { return f.closed })
}

// wait blocks until is holds, or done is closed.
func (f *Feed) wait(done <-chan struct{}, is func() bool) {
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
