package deploy

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"vorrang/core/engine"
	"vorrang/internal/safely"
)

// lockPause is how long to wait before try n+1 after a lock timeout.
func lockPause(n int) time.Duration {
	const doublings = 5 // beyond which the pause stays the same
	return min(time.Second<<min(n-1, doublings), 30*time.Second)
}

// retry runs try again after lock timeouts, as often as the step allows.
func (r *run) retry(ctx context.Context, s script, try func() (*Failure, error)) *Failure {
	for n := 1; ; n++ {
		failure, err := try()
		if failure == nil || !lockTimedOut(err) || n > s.options.Retries || ctx.Err() != nil {
			return failure
		}
		pause := lockPause(n)
		held := ""
		if len(failure.Blockers) > 0 {
			held = "; it is held by " + inWords(failure.Blockers, "; it is held by ")
		}
		r.emit(
			Event{
				Kind:      Waiting,
				Statement: failure.Statement,
				Of:        failure.Of,
				Line:      failure.Line,
				Blockers:  failure.Blockers,
				Message: fmt.Sprintf("a lock was not granted within %s; others go first, try %d of %d follows in %s%s",
					r.settings(s.options).LockTimeout, n+1, s.options.Retries+1, pause, held),
			},
		)
		r.Pause(ctx, pause)
	}
}

func lockTimedOut(err error) bool {
	var server *engine.ServerError
	return errors.As(err, &server) && server.Kind == engine.LockTimeout
}

// exec runs the statement with an index, and watches what it waits for.
func (r *run) exec(ctx context.Context, s script, index int) (rows int64, f *Failure, err error) {
	w := r.watch(ctx, s, index)
	rows, err = r.Target.Exec(ctx, s.statements[index])
	blockers := w.end()
	if err == nil {
		return rows, nil, nil
	}
	f = r.fail(s, index, err)
	if lockTimedOut(err) {
		f.Blockers = blockers
	}
	return rows, f, err
}

// watch looks, while a statement runs, for the sessions that it waits for.
type watch struct {
	cancel context.CancelFunc
	timer  *time.Timer
	looks  sync.WaitGroup
	seen   []engine.Blocker
}

// A statement that runs this long, or for half of its lock timeout if that is
// shorter, may be waiting for a lock.
const suspicious = time.Second

func (r *run) watch(ctx context.Context, s script, index int) *watch {
	w := &watch{}
	ctx, w.cancel = context.WithCancel(ctx)
	after := suspicious
	if timeout := r.settings(s.options).LockTimeout; timeout > 0 {
		after = min(after, timeout/2)
	}
	watcher, tells := r.Target.(engine.Watcher)
	if !tells {
		return w
	}
	w.looks.Add(1)
	w.timer = time.AfterFunc(after, func() {
		defer w.looks.Done()
		_ = safely.Do(func() error { r.lookFor(ctx, watcher, w, s, index, after); return nil }) // it only tells
	})
	return w
}

// end stops the watch, and returns the blockers that it saw last.
func (w *watch) end() []engine.Blocker {
	if w.timer != nil && w.timer.Stop() {
		w.looks.Done() // it never began
	}
	w.cancel()
	w.looks.Wait()
	return w.seen
}

// lookFor tells of every change among the sessions that a statement waits for.
func (r *run) lookFor(ctx context.Context, watcher engine.Watcher, w *watch, s script, index int, every time.Duration) {
	ticks := time.NewTicker(every)
	defer ticks.Stop()
	var told []int32
	for {
		blockers, err := watcher.Blockers(ctx)
		if err != nil {
			return // what cannot be seen is not told; the statement goes on
		}
		var pids []int32
		for _, b := range blockers {
			pids = append(pids, b.PID)
		}
		if len(blockers) > 0 {
			w.seen = blockers
			if !slices.Equal(pids, told) {
				r.emit(
					Event{
						Kind:      Waiting,
						Statement: index + 1,
						Of:        len(s.statements),
						Line:      s.statements[index].Line,
						Blockers:  blockers,
						Message:   "waits for a lock that is held by " + inWords(blockers, "; and by "),
					},
				)
			}
		}
		told = pids
		select {
		case <-ctx.Done():
			return
		case <-ticks.C:
		}
	}
}

// inWords names sessions, one after the other.
func inWords(blockers []engine.Blocker, between string) string {
	words := make([]string, len(blockers))
	for i, b := range blockers {
		words[i] = b.String()
	}
	return strings.Join(words, between)
}
