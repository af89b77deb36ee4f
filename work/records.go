package work

import (
	"context"
	"errors"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/ledger"
	"vorrang/core/schema"
	"vorrang/records"
)

// recordsPatience is how long a deployment's end waits for records that are
// away.
const recordsPatience = 2 * time.Minute

// Insist repeats work on the records until it succeeds: a deployment outlives a
// short absence of them. what is for the log.
func (w *Deployments) Insist(what string, work func(context.Context) error) { _ = w.insist(what, work) }

// insist is Insist with what went wrong in the end, which was logged.
func (w *Deployments) insist(what string, work func(context.Context) error) error {
	deadline := time.Now().Add(recordsPatience)
	for {
		ctx, cancel := context.WithTimeout(context.Background(), keepPatience)
		err := work(ctx)
		cancel()
		var taken records.TakenOverError
		switch {
		case err == nil:
			return nil
		case errors.As(err, &taken): // which a try later does not change
			w.log.Error(what+" was not kept; the target's ledger has what matters", "error", err)
			return err
		}
		if time.Now().After(deadline) || w.ctx.Err() != nil {
			w.log.Error(what+" could not be kept; the target's ledger has what matters", "error", err)
			return err
		}
		w.log.Warn(what+" could not be kept yet", "error", err)
		Pause(w.ctx, time.Second)
	}
}

// keepEvery is how long events may wait to be kept, and told, together.
const keepEvery = 150 * time.Millisecond

// keepPatience bounds one try to keep something.
const keepPatience = 10 * time.Second

// keep writes a deployment's events into the records until the feed ends. Once it is another
// service's, nothing more is told here: that one tells how it ended.
func (w *Deployments) keep(id int64, live *Feed) {
	live.each(func(events []deploy.Event) bool {
		err := w.insist("events", func(ctx context.Context) error { return w.records.AddEvents(ctx, id, events) })
		var taken records.TakenOverError
		return !errors.As(err, &taken)
	})
}

// each hands over a feed's events, some at a time, and then tells readers of them, until it
// has ended or do says that readers are to go on from the records.
func (f *Feed) each(do func([]deploy.Event) bool) {
	for after := int64(0); ; {
		events, ended := f.all(after)
		if len(events) > 0 {
			if !do(events) {
				f.leave()
				return
			}
			after = events[len(events)-1].Seq
			f.release(after)
		}
		if ended {
			return
		}
		f.wait(nil, func() bool { return after < int64(len(f.events)) || f.ended })
		f.WaitEnd(keepEvery) // so that events are kept together
	}
}

func (w *Deployments) finish(d Work, result deploy.Result) {
	defer d.Guide.Changed()
	if result.Head.Seq > 0 {
		w.Insist("the ledger's head", func(ctx context.Context) error {
			return w.records.SaveHead(ctx, d.Lane, d.Environment, result.Head)
		})
	}
	w.Insist("the outcome", func(ctx context.Context) error {
		return w.records.End(ctx, d.ID, result.Outcome, result.Failure)
	})
}

// lookBack says what a deployment of very many steps did to the schema, once it
// has ended.
func (w *Deployments) lookBack(d Work, head ledger.Head) {
	ctx, cancel := context.WithTimeout(context.Background(), LookPatience)
	defer cancel()
	left, kept := d.Guide.Left(head, nil)
	if !kept || d.before == nil {
		return
	}
	differences := schema.Effect(*d.before, left)
	last, err := w.records.LastSeq(ctx, d.ID)
	if err != nil || len(differences) == 0 {
		return
	}
	event := deploy.EffectOf(differences)
	event.Seq, event.At = last+1, time.Now().UTC()
	w.Insist(
		"what a deployment did",
		func(ctx context.Context) error { return w.records.AddEvents(ctx, d.ID, []deploy.Event{event}) },
	)
}
