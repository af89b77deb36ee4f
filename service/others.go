package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/records"
	"vorrang/service/api"
	"vorrang/work"
)

// othersEvery is how often a service looks whether others on the same records still live.
const othersEvery = 2 * time.Second

// others is what a service does about others on the same records: it closes what dead ones
// left, and cancels here what somebody asked another one to cancel.
type others struct {
	*deploying
	abandoned *work.Abandoned
	round     *work.Round

	at      time.Time // when to look next
	asked   atomic.Bool
	closing atomic.Bool
	live    []int32 // those that lived at the last look

	cancelled []int64 // deployments that were asked to end, and have not yet
	tidy      time.Time
}

func newOthers(s *deploying) *others {
	o := &others{deploying: s}
	o.abandoned = &work.Abandoned{Deployments: s.running, Open: o.open, Told: o.told}
	o.round = work.NewRound("other services", o.next, o.look)
	return o
}

func (o *others) next(context.Context) (time.Time, bool, error) {
	if o.asked.Load() {
		return time.Time{}, true, nil
	}
	return o.at, true, nil
}

// look does what there is to do.
func (o *others) look(ctx context.Context) error {
	o.asked.Store(false)
	o.at = time.Now().Add(othersEvery)
	if err := o.cancels(ctx); err != nil {
		return err
	}
	if err := o.runFleets(ctx); err != nil {
		return err
	}
	if err := o.seen(ctx); err != nil {
		return err
	}
	if err := o.cameAndWent(ctx); err != nil {
		return err
	}
	if o.closing.CompareAndSwap(false, true) { // which takes its time where targets do not answer
		o.running.Aside("deployments of services that are gone", func(ctx context.Context) error {
			defer o.closing.Store(false)
			return o.abandoned.Close(ctx)
		})
	}
	if err := o.Records.CloseRehearsals(ctx, o.Now().UTC()); err != nil {
		return err
	}
	left, err := o.Records.LeftScratches(ctx)
	if err != nil {
		return err
	}
	if len(left) > 0 {
		o.running.Aside("scratch databases that were left behind", func(ctx context.Context) error {
			o.builder.dropLeft(ctx, left)
			return nil
		})
	}
	if time.Since(o.tidy) < time.Minute {
		return nil
	}
	o.tidy = time.Now()
	return o.Records.ForgetSignIns(ctx, remembered)
}

// runFleets goes on with deployments to fleets whose service is gone, and tells those that run here
// what somebody said to them.
func (o *others) runFleets(ctx context.Context) error {
	list, err := o.Records.OwnFleets(ctx)
	for _, f := range list {
		if o.fleets.Say(f) {
			continue
		}
		targets, err := o.Records.FleetTargets(ctx, f.ID)
		if err != nil {
			return err
		}
		f, err = o.Records.FleetDeployment(ctx, f.ID) // which may have ended meanwhile
		if err != nil {
			return err
		}
		if f.EndedAt == nil {
			o.fleets.Run(f, targets)
		}
	}
	return err
}

// seen keeps what requests saw that only read.
func (o *others) seen(ctx context.Context) error {
	return errors.Join(o.targets.noted.save(ctx), o.Records.SaveUses(ctx))
}

// cameAndWent logs it, and looks for what a service that is gone was to do.
func (o *others) cameAndWent(ctx context.Context) error {
	list, err := o.Records.Services(ctx)
	if err != nil {
		return err
	}
	now := make([]int32, len(list))
	for i, one := range list {
		now[i] = one.ID
	}
	for _, one := range list {
		if !slices.Contains(o.live, one.ID) && one.ID != o.Records.Service() {
			o.Log.Info("another service is here", "service", one.ID, "host", one.Host, "version", one.Version)
		}
	}
	for _, id := range o.live {
		if !slices.Contains(now, id) && id != o.Records.Service() {
			o.Log.Info("another service is gone", "service", id)
			o.wake()
			o.running.Aside("steps of the records that waited", o.Records.Upgrade)
		}
	}
	o.live = now
	return nil
}

// wake has the rounds look for work that nobody else has claimed.
func (o *others) wake() {
	o.schedules.Wake()
	o.drifts.looks.Wake()
	o.hooks.Round().Wake()
}

// hear is told what other services do.
func (o *others) hear(n records.News) {
	o.news.tell(n)
	switch n.Kind {
	case "": // something may have been missed
		o.looking.changed()
		o.soon()
		o.wake()
	case "changed":
		o.looking.changed()
	case "cancel":
		o.soon()
	}
}

// soon has the next look begin at once.
func (o *others) soon() {
	o.asked.Store(true)
	o.round.Wake()
}

// cancels stops here what somebody asked another service to cancel.
func (o *others) cancels(ctx context.Context) error {
	deployments, rehearsals, err := o.Records.Cancels(ctx)
	if err != nil {
		return err
	}
	var ending []int64
	for id, who := range deployments {
		ending = append(ending, id)
		if !slices.Contains(o.cancelled, id) && o.running.Cancel(id, cancelledBy(who)) {
			o.Log.Info("deployment cancelled", "deployment", id, "actor", who)
		}
	}
	o.cancelled = ending
	for id, who := range rehearsals {
		o.rehearsing.Cancel(id, rehearsalCancelledBy(who))
	}
	return nil
}

func cancelledBy(who string) error { return fmt.Errorf("%w by %s", deploy.ErrCancelled, who) }

func rehearsalCancelledBy(who string) error { return fmt.Errorf("%s cancelled it", who) }

// openPatience bounds how long it takes to reach the target of an abandoned deployment.
const openPatience = 5 * time.Second

// open opens the target of an abandoned deployment.
func (o *others) open(ctx context.Context, d records.Deployment) (engine.Session, error) {
	ctx, cancel := context.WithTimeout(ctx, openPatience)
	defer cancel()
	p, err := o.targets.place(ctx, d.Lane, d.Environment)
	if err != nil {
		if refused := (*problemError)(nil); !errors.As(err, &refused) {
			err = &work.RecordsError{Err: err}
		}
		return nil, err
	}
	return o.targets.connect(ctx, p, "vorrang deployment whose service is gone")
}

// told tells the hooks.
func (o *others) told(d records.Deployment, outcome deploy.Outcome) {
	o.hooks.TellOf(d, endedAs(outcome), string(outcome))
}

// endedAs is what hooks are told of an end.
func endedAs(outcome deploy.Outcome) string {
	if outcome == deploy.Done {
		return api.EventDone
	}
	return api.EventFailed
}

// tellPatience bounds it.
const tellPatience = 2 * time.Second

// tellOthers says to all services that something changed. Where that cannot be said, they find
// out by themselves, a little later.
func (s *deploying) tellOthers(ctx context.Context) {
	if err := s.Records.Changed(ctx); err != nil {
		s.Log.Warn("other services were not told of a change", "error", err)
	}
}
