package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/step"
	"vorrang/internal/safely"
	"vorrang/records"
)

// goneFor is how long the target of an abandoned deployment is tried to be reached before
// the deployment is closed without a look at it.
const goneFor = 10 * time.Second

// Abandoned closes the deployments whose service does not live any more, by what the
// targets' ledgers say. One whose target is locked still runs there: its statement, or its
// service, which lives and lost the records only.
type Abandoned struct {
	*Deployments
	// Open opens a session on a deployment's target.
	Open func(context.Context, records.Deployment) (engine.Session, error)
	// Told is told of each that was closed.
	Told func(records.Deployment, deploy.Outcome)

	away map[int64]time.Time // since when the target of one could not be reached
}

// Close closes those that there are. Its error is of the records.
func (a *Abandoned) Close(ctx context.Context) error {
	list, err := a.records.Abandoned(ctx, a.runs())
	if err != nil {
		return err
	}
	away := a.away
	a.away = map[int64]time.Time{}
	errs := make([]error, len(list))
	since := make([]time.Time, len(list)) // its zero value for one that was reached
	var wait safely.Group
	room := make(chan struct{}, mostOpened)
	for i, d := range list {
		room <- struct{}{}
		wait.Go(func() {
			defer func() { <-room }()
			since[i], errs[i] = a.closeOne(ctx, d, away[d.ID])
		})
	}
	wait.Wait()
	for i, d := range list {
		if !since[i].IsZero() {
			a.away[d.ID] = since[i]
		}
	}
	return errors.Join(errs...)
}

// mostOpened is how many targets are opened at once.
const mostOpened = 8

// closeOne closes one whose target's lock is free, or whose target has been away for long. It
// says since when it is, where it is.
func (a *Abandoned) closeOne(ctx context.Context, d records.Deployment, since time.Time) (time.Time, error) {
	session, err := a.Open(ctx, d)
	if err == nil {
		defer session.Close()
		if err = session.Lock(ctx); err == nil {
			err = a.settle(ctx, d, session)
		}
	}
	var kept *RecordsError
	if errors.As(err, &kept) { // which says nothing of the target
		return since, kept.Err
	}
	var locked *engine.LockedError
	if err == nil || errors.As(err, &locked) || ctx.Err() != nil {
		return time.Time{}, nil
	}
	if since.IsZero() {
		since = time.Now()
	}
	if time.Since(since) < goneFor {
		return since, nil
	}
	a.log.Warn("the target of an interrupted deployment cannot be read", "deployment", d.ID, "error", err)
	what := "its target cannot be reached"
	if session != nil {
		what = "the ledger of its target cannot be read"
	}
	err = a.close(ctx, d, deploy.Interrupted, "the service that ran this deployment is gone, and "+what+"; the ledger "+
		"says how far it came, and the same promotion goes on from there")
	return since, err
}

// CloseAt closes the abandoned deployment of an environment whose target's lock the session
// holds.
func (a *Abandoned) CloseAt(ctx context.Context, lane, environment string, session engine.Session) error {
	list, err := a.records.Abandoned(ctx, a.runs())
	for _, d := range list {
		if err == nil && d.Lane == lane && d.Environment == environment {
			err = a.settle(ctx, d, session)
		}
	}
	return err
}

// settle closes one by what the ledger of its target says, whose lock is held.
func (a *Abandoned) settle(ctx context.Context, d records.Deployment, session engine.Session) error {
	entries, _, err := session.ReadLedger(ctx)
	if err != nil {
		return err
	}
	if completed(entries, d) {
		return a.close(ctx, d, deploy.Done, "the service that ran this deployment is gone; the target's ledger says that all "+
			"of it was done")
	}
	return a.close(ctx, d, deploy.Interrupted, "the service that ran this deployment ended while it ran; the ledger says how "+
		"far it came, and the same promotion goes on from there")
}

// completed reports whether a ledger says that all actions of a deployment were done.
func completed(entries []ledger.Entry, d records.Deployment) bool {
	done := map[step.Number]ledger.Action{}
	for _, e := range entries {
		if e.Deployment == fmt.Sprint(d.ID) {
			done[e.Step] = e.Action
		}
	}
	for _, action := range d.Plan.Actions {
		want := ledger.Applied
		if action.Direction == ledger.Back {
			want = ledger.RolledBack
		}
		if done[action.Step.Number] != want {
			return false
		}
	}
	return len(d.Plan.Actions) > 0 && !d.Plan.Empties
}

// RecordsError is an error of the records, and not of a target.
type RecordsError struct{ Err error }

func (e *RecordsError) Error() string { return e.Err.Error() }

// Unwrap is the records' error.
func (e *RecordsError) Unwrap() error { return e.Err }

// close closes one in the records; its error is a *RecordsError.
func (a *Abandoned) close(ctx context.Context, d records.Deployment, outcome deploy.Outcome, message string) error {
	if err := a.closeInRecords(ctx, d, outcome, message); err != nil {
		return &RecordsError{err}
	}
	return nil
}

func (a *Abandoned) closeInRecords(
	ctx context.Context, d records.Deployment, outcome deploy.Outcome, message string,
) error {
	taken, err := a.records.TakeOver(ctx, d)
	if err != nil || !taken { // its service lives, or another one was faster
		return err
	}
	last, err := a.records.LastSeq(ctx, d.ID)
	if err != nil {
		return err
	}
	if err := a.records.AddEvents(ctx, d.ID, []deploy.Event{ended(d, last+1, outcome, message)}); err != nil {
		return err
	}
	if err := a.records.End(ctx, d.ID, outcome, nil); err != nil {
		return err
	}
	a.log.Warn("deployment was closed for a service that is gone", "deployment", d.ID, "lane", d.Lane,
		"environment", d.Environment, "service", d.Service, "outcome", outcome)
	a.Told(d, outcome)
	return nil
}

// runs are the deployments that run here.
func (w *Deployments) runs() []int64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	list := make([]int64, 0, len(w.places))
	for id := range w.places {
		list = append(list, id)
	}
	return list
}
