package work

import (
	"context"
	"errors"
	"log/slog"
	"sync"

	"vorrang/core/deploy"
	"vorrang/internal/safely"
)

// mostRehearsals run at once; others wait for their turn.
const mostRehearsals = 4

// Rehearsals run in the background, and others watch. Unlike deployments they can be
// stopped at any moment, since nothing that they do is kept but their result.
type Rehearsals struct {
	*underWay
	log   *slog.Logger
	kept  func(ctx context.Context, id int64, events []deploy.Event) error
	ctx   context.Context
	stop  context.CancelCauseFunc
	wait  sync.WaitGroup
	turns chan struct{}

	mu       sync.Mutex
	stopping bool
}

// NewRehearsals has none under way. kept keeps what they tell, for who watches at another
// service.
func NewRehearsals(
	log *slog.Logger, kept func(ctx context.Context, id int64, events []deploy.Event) error,
) *Rehearsals {
	ctx, stop := context.WithCancelCause(context.Background())
	return &Rehearsals{
		underWay: newUnderWay(), log: log, kept: kept, ctx: ctx, stop: stop, turns: make(chan struct{}, mostRehearsals),
	}
}

// Run begins a rehearsal, and returns at once. do is to tell what happens by emit, which
// numbers the events, and to keep what came of it before it returns, also when its context
// ends. It returns false once Stop was called: do is not called then.
func (w *Rehearsals) Run(id int64, do func(ctx context.Context, emit func(deploy.Event)) deploy.Event) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.stopping {
		return false
	}
	w.wait.Add(1)
	ctx, live, end := w.begin(w.ctx, id)
	keeping := make(chan struct{})
	go func() {
		defer close(keeping)
		if fault := safely.Do(func() error { w.keep(id, live); return nil }); fault != nil {
			w.log.Error("a rehearsal's events are not kept any more", "rehearsal", id, "error", fault)
		}
	}()
	go func() {
		defer w.wait.Done()
		select {
		case w.turns <- struct{}{}:
			defer func() { <-w.turns }()
		case <-ctx.Done(): // do says what that means
		}
		told := int64(0)
		emit := func(e deploy.Event) {
			told++
			e.Seq = told
			live.add(e)
		}
		var last deploy.Event
		if fault := safely.Do(func() error { last = do(ctx, emit); return nil }); fault != nil {
			w.log.Error("a rehearsal met a fault", "rehearsal", id, "error", fault)
			last = deploy.Event{Kind: deploy.Ended, Outcome: deploy.Interrupted}
		}
		end()
		emit(last)
		live.end()
		<-keeping
		live.close()
	}()
	return true
}

// keep keeps what a rehearsal tells until it has ended. What cannot be kept is only missed by
// who watches elsewhere.
func (w *Rehearsals) keep(id int64, live *Feed) {
	live.each(func(events []deploy.Event) bool {
		ctx, cancel := context.WithTimeout(context.Background(), keepPatience)
		defer cancel()
		if err := w.kept(ctx, id, events); err != nil {
			w.log.Warn("a rehearsal's events could not be kept", "rehearsal", id, "error", err)
		}
		return true
	})
}

// Stop stops all, and blocks until their copies are gone and what became of them is kept.
func (w *Rehearsals) Stop() {
	w.mu.Lock()
	w.stopping = true
	w.mu.Unlock()
	w.stop(deploy.ErrStopping)
	w.wait.Wait()
}

// Stopped reports whether a rehearsal's context ended since the service stops.
func Stopped(ctx context.Context) bool { return errors.Is(context.Cause(ctx), deploy.ErrStopping) }
