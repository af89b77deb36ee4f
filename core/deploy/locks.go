package deploy

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"vorrang/core/engine"
	"vorrang/internal/plural"
	"vorrang/internal/safely"
)

// lockPause is how long to wait before try n+1 after a lock timeout.
func lockPause(n int) time.Duration {
	const doublings = 5 // beyond which the pause stays the same
	return min(time.Second<<min(n-1, doublings), 30*time.Second)
}

// gaveWay says that a statement was cancelled since others had waited for it.
type gaveWay struct {
	to    []engine.Blocker
	after time.Duration
}

func (g *gaveWay) Error() string {
	return fmt.Sprintf("it gave way after others had waited for it for %s: %s", g.after, inWords(g.to, "; and "))
}

// retry runs try again after lock timeouts, and after it gave way, as often as the step
// allows.
func (r *run) retry(ctx context.Context, s script, try func() (*Failure, error)) *Failure {
	for n := 1; ; n++ {
		failure, err := try()
		var way *gaveWay
		gave := errors.As(err, &way)
		if failure == nil || !gave && !lockTimedOut(err) || n > s.options.Retries || ctx.Err() != nil {
			return failure
		}
		pause := lockPause(n)
		held := ""
		if len(failure.Blockers) > 0 {
			held = "; it is held by " + inWords(failure.Blockers, "; it is held by ")
		}
		why := fmt.Sprintf("a lock was not granted within %s", r.settings(s.options).LockTimeout)
		if gave {
			why = way.Error()
		}
		r.emit(
			Event{
				Kind:      Waiting,
				Statement: failure.Statement,
				Of:        failure.Of,
				Line:      failure.Line,
				Blockers:  failure.Blockers,
				Message: fmt.Sprintf("%s; others go first, try %d of %d follows in %s%s",
					why, n+1, s.options.Retries+1, pause, held),
			},
		)
		r.Pause(ctx, pause)
	}
}

func lockTimedOut(err error) bool { return isOf(err, engine.LockTimeout) }

func isCancelled(err error) bool { return isOf(err, engine.Cancelled) }

func isOf(err error, kind engine.Kind) bool {
	var server *engine.ServerError
	return errors.As(err, &server) && server.Kind == kind
}

// exec runs the statement with an index, and watches what it waits for.
func (r *run) exec(ctx context.Context, s script, index int) (rows int64, f *Failure, err error) {
	w := r.watch(ctx, s, index)
	rows, err = r.Target.Exec(ctx, s.statements[index])
	blockers := w.end()
	r.waited.add(w.waited, blockers)
	if err == nil {
		return rows, nil, nil
	}
	f = r.fail(s, index, err)
	switch {
	case w.gaveWay != nil && isCancelled(err):
		f.Message, err = w.gaveWay.Error(), w.gaveWay
	case lockTimedOut(err):
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
	since  time.Time     // when the statement may have begun to wait; zero while it does not
	waited time.Duration // so far

	gaveWay *gaveWay // the statement was cancelled for others
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
	looking := looker{run: r, watcher: watcher, watch: w, s: s, index: index, every: after, tick: after}
	looking.yielder, _ = r.Target.(engine.Yielder)
	if most := r.settings(s.options).BlockAtMost; most > 0 && looking.yielder != nil {
		looking.most = most
		looking.tick = min(after, most/looksInABlock)
	}
	w.looks.Add(1)
	w.timer = time.AfterFunc(looking.tick, func() {
		defer w.looks.Done()
		_ = safely.Do(func() error { looking.look(ctx); return nil }) // the statement goes on
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
	if !w.since.IsZero() {
		w.waited += time.Since(w.since)
	}
	return w.seen
}

// looksInABlock is how often is looked, while a statement runs, within the time that
// others may wait for it.
const looksInABlock = 8

// looker looks who waits for whom while a statement runs.
type looker struct {
	*run
	watcher engine.Watcher
	watch   *watch
	s       script
	index   int
	tick    time.Duration // from look to look
	every   time.Duration // from one to the next that asks for whom the statement waits

	// who waits for the statement; yielder is nil where the server does not tell
	yielder engine.Yielder
	most    time.Duration // that others may wait; 0 for as long as it takes
	waiting []int32       // who was told of last
}

// look looks until ctx is done or the statement gave way. What cannot be seen is not told;
// the statement goes on.
func (l *looker) look(ctx context.Context) {
	ticks := time.NewTicker(l.tick)
	defer ticks.Stop()
	var told []int32
	waits := map[int32]time.Time{} // since when others were seen to wait
	var asked time.Time
	looked := time.Now().Add(-l.tick) // when the statement began
	for {
		if l.yielder != nil && l.giveWay(ctx, waits) {
			return
		}
		if time.Since(asked) >= l.every {
			asked = time.Now()
			asking, done := patiently(ctx)
			blockers, err := l.watcher.Blockers(asking)
			done()
			if err != nil {
				return
			}
			if !l.watch.waits(len(blockers) > 0, looked) {
				looked = time.Now() // it did not wait then
			}
			told = l.tell(blockers, told)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticks.C:
		}
	}
}

// waits notes whether the statement waits, which it may have begun since the last look.
func (w *watch) waits(is bool, lastLook time.Time) bool {
	switch {
	case is && w.since.IsZero():
		w.since = lastLook
	case !is && !w.since.IsZero():
		w.waited += time.Since(w.since)
		w.since = time.Time{}
	}
	return is
}

// patiently gives a question time to end after the statement has: a driver may close a
// connection on which it is cut off, and that one holds the target's lock.
func patiently(ctx context.Context) (context.Context, context.CancelFunc) {
	const patience = 5 * time.Second
	return context.WithTimeout(context.WithoutCancel(ctx), patience)
}

// giveWay cancels the statement if others have waited for it for too long.
func (l *looker) giveWay(ctx context.Context, waits map[int32]time.Time) bool {
	asking, done := patiently(ctx)
	defer done()
	kept, err := l.yielder.KeptWaiting(asking)
	if err != nil {
		return false
	}
	still := map[int32]bool{}
	longest := time.Duration(0)
	for _, b := range kept {
		still[b.PID] = true
		if _, known := waits[b.PID]; !known {
			waits[b.PID] = time.Now()
		}
		longest = max(longest, time.Since(waits[b.PID]))
	}
	maps.DeleteFunc(waits, func(pid int32, _ time.Time) bool { return !still[pid] })
	if longest >= suspicious || len(kept) == 0 { // in moments nobody is kept from anything
		l.tellWaiting(kept, longest)
	}
	if l.most == 0 || longest < l.most-2*l.tick || len(kept) == 0 { // they may have come right after the last look
		return false
	}
	l.watch.gaveWay = &gaveWay{kept, l.most} // before: the statement may end before the answer is here
	if l.yielder.CancelStatement(asking) != nil {
		l.watch.gaveWay = nil
		return false
	}
	return true
}

// tellWaiting tells of a change among those who wait for this deployment.
func (l *looker) tellWaiting(kept []engine.Blocker, longest time.Duration) {
	var now []int32
	for _, b := range kept {
		now = append(now, b.PID)
	}
	slices.Sort(now)
	if slices.Equal(now, l.waiting) {
		return
	}
	l.waiting = now
	message := "nobody waits for this deployment any more"
	if len(kept) > 0 {
		const named = 3
		message = fmt.Sprintf(
			"%s for this deployment, for up to %s: %s",
			plural.Count(
				len(kept),
				"session waits",
				"sessions wait",
			),
			longest.Round(100*time.Millisecond),
			inWords(kept[:min(len(kept), named)], "; "),
		)
	}
	l.emit(Event{Kind: Blocking, Statement: l.index + 1, Of: len(l.s.statements), Line: l.s.statements[l.index].Line,
		Blockers: kept, Message: message})
}

// tell tells of a change among the sessions that a statement waits for.
func (l *looker) tell(blockers []engine.Blocker, told []int32) (now []int32) {
	for _, b := range blockers {
		now = append(now, b.PID)
	}
	if len(blockers) == 0 {
		return now
	}
	l.watch.seen = blockers
	if !slices.Equal(now, told) {
		l.emit(
			Event{
				Kind:      Waiting,
				Statement: l.index + 1,
				Of:        len(l.s.statements),
				Line:      l.s.statements[l.index].Line,
				Blockers:  blockers,
				Message:   "waits for a lock that is held by " + inWords(blockers, "; and by "),
			},
		)
	}
	return now
}

// inWords names sessions, one after the other.
func inWords(blockers []engine.Blocker, between string) string {
	words := make([]string, len(blockers))
	for i, b := range blockers {
		words[i] = b.String()
	}
	return strings.Join(words, between)
}
