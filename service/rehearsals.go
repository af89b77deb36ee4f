package service

import (
	"bufio"
	"context"
	"errors"
	"net/http"
	"strconv"

	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/plan"
	"vorrang/core/rehearsal"
	"vorrang/records"
	"vorrang/service/api"
)

// askRehearsal adds the newest rehearsal of what would be promoted, where the gate asks
// for one.
func (s *gates) askRehearsal(ctx context.Context, p targetContext, facts *gate.Facts) error {
	if !facts.Asks.Rehearsal {
		return nil
	}
	planned, err := plan.Forward(facts.View, facts.Through)
	if err != nil || len(planned.Actions) == 0 {
		return nil // the promotion says so itself
	}
	kept, err := s.Records.Rehearsed(ctx, p.lane.Name, p.environment.Name, planned.Digest(), facts.Fingerprint)
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err == nil {
		facts.Rehearsed = &gate.Rehearsed{
			At: kept.At, By: kept.Actor, Passed: kept.Result.Passed, Why: kept.Result.Why,
			With: kept.Result.With(), Notes: kept.Result.WaysBack(), Fingerprint: kept.Fingerprint,
		}
	}
	return err
}

type rehearseIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Release     string `json:"release,omitempty"`
	Through     string `json:"through,omitempty" description:"The last step; all that wait, if absent."`
	Rows        int    `json:"rows,omitempty" minimum:"0" maximum:"100000" description:"Copy so many rows of each table, with those that foreign keys need and those at the edges of keys and constraints; none, if absent."`
}

// rehearse begins to try what a promotion would apply on a copy of the target. The target
// is only read.
func (s *deploying) rehearse(c call, in *rehearseIn) (*api.Rehearsed, error) {
	p, err := s.gates.placeOf(c, in.Lane, in.Environment, in.Release)
	if err != nil {
		return nil, err
	}
	through, err := optionalNumber("through", in.Through)
	if err != nil {
		return nil, err
	}
	asked := rehearsalAsked{release: in.Release, through: through, rows: in.Rows, actor: c.actor}
	kept, err := s.beginRehearsal(c, p, asked)
	if err != nil {
		return nil, err
	}
	c.fiber.Status(http.StatusAccepted)
	return rehearsedShown(kept), nil
}

type rehearsalIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	ID          int64  `path:"rehearsal"`
}

func (s *deploying) rehearsal(c call, in *rehearsalIn) (*api.Rehearsed, error) {
	kept, err := s.keptRehearsal(c, in)
	if err != nil {
		return nil, err
	}
	return rehearsedShown(kept), nil
}

func (s *deploying) keptRehearsal(c call, in *rehearsalIn) (records.Rehearsal, error) {
	kept, err := s.Records.Rehearsal(c, in.Lane, in.Environment, in.ID)
	if errors.Is(err, records.ErrNotFound) {
		err = notFound("rehearsal", strconv.FormatInt(in.ID, 10), nil)
	}
	return kept, err
}

type rehearsalsIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Before      int64  `query:"before" minimum:"0" description:"Only those before this one: next of the page before."`
	Limit       int    `query:"limit" default:"20" minimum:"1" maximum:"200"`
	Search      string `query:"search" description:"Only those in whose actor, release, state or message this stands."`
}

func (s *deploying) rehearsals(c call, in *rehearsalsIn) (*api.Rehearsals, error) {
	if _, err := s.targets.place(c, in.Lane, in.Environment); err != nil {
		return nil, err
	}
	list, err := s.Records.Rehearsals(
		c, in.Lane, in.Environment, records.ListQuery{Search: in.Search, Before: in.Before, Limit: in.Limit + 1})
	if err != nil {
		return nil, err
	}
	answer := &api.Rehearsals{Rehearsals: []api.Rehearsed{}}
	list, answer.Next = page(list, in.Limit, func(r records.Rehearsal) int64 { return r.ID })
	for _, one := range list {
		answer.Rehearsals = append(answer.Rehearsals, *rehearsedShown(one))
	}
	return answer, nil
}

// rehearsalEvents tells what happens, and happened.
func (s *deploying) rehearsalEvents(c call, in *rehearsalIn) (*api.Events, error) {
	live := s.rehearsing.Feed(in.ID) // before what is kept: where it is nil, that has ended, or runs elsewhere
	kept, err := s.keptRehearsal(c, in)
	if err != nil {
		return nil, err
	}
	if streamed(c) {
		after := lastEvent(c, 0)
		return nil, s.stream(c, in.Lane, in.Environment, func(w *bufio.Writer, still func() bool) error {
			if live != nil {
				s.streamLive(w, live, after, still)
				return nil
			}
			return s.streamKept(w, s.keptEventsOf(kept), after, still)
		})
	}
	answer := &api.Events{Events: []deploy.Event{}}
	if live != nil {
		events, _ := live.After(0)
		answer.Events = append(answer.Events, events...)
		return answer, nil
	}
	const most = 10_000
	events, err := s.Records.RehearsalEvents(c, in.ID, 0, most)
	answer.Events = append(answer.Events, events...)
	return answer, err
}

// keptEventsOf are the events of a rehearsal that runs at another service, or has ended.
func (s *deploying) keptEventsOf(a records.Rehearsal) keptEvents {
	return keptEvents{
		topic: topic("rehearsal", a.ID),
		read: func(ctx context.Context, after int64, most int) ([]deploy.Event, error) {
			return s.Records.RehearsalEvents(ctx, a.ID, after, most)
		},
		running: func(ctx context.Context) (bool, deploy.Outcome, error) {
			now, err := s.Records.Rehearsal(ctx, a.Lane, a.Environment, a.ID)
			return now.State == rehearsal.Running, outcomeOf(now), err
		},
		ended: true,
	}
}

// cancelRehearsal asks a rehearsal to stop, and answers at once.
func (s *deploying) cancelRehearsal(c call, in *rehearsalIn) (*api.Rehearsed, error) {
	kept, err := s.keptRehearsal(c, in)
	if err != nil {
		return nil, err
	}
	asked := s.rehearsing.Cancel(in.ID, rehearsalCancelledBy(c.actor))
	if !asked {
		if asked, err = s.Records.AskCancelRehearsal(c, in.ID, c.actor); err != nil {
			return nil, err
		}
	}
	if !asked {
		return nil, refused(nil, "rehearsal %d is not running; it is %s", in.ID, kept.State)
	}
	c.fiber.Status(http.StatusAccepted)
	return rehearsedShown(kept), nil
}

// outcomeOf is how a rehearsal ended, as events say it.
func outcomeOf(a records.Rehearsal) deploy.Outcome {
	switch {
	case a.State == rehearsal.Ended && a.Result.Passed:
		return deploy.Done
	case a.State == rehearsal.Cancelled:
		return deploy.Cancelled
	case a.State == rehearsal.Interrupted:
		return deploy.Interrupted
	}
	return deploy.Failed
}

// rehearsedShown is a kept rehearsal as the API shows it.
func rehearsedShown(kept records.Rehearsal) *api.Rehearsed {
	a := &api.Rehearsed{
		ID: kept.ID, Lane: kept.Lane, Environment: kept.Environment, Release: kept.Release, Plan: kept.Plan,
		Fingerprint: kept.Fingerprint, Actor: kept.Actor, At: kept.At, EndedAt: kept.EndedAt, Rows: kept.Rows,
		State: kept.State, Message: kept.Message, Result: kept.Result, Surroundings: []string{},
	}
	if a.Result.Steps == nil {
		a.Result.Steps = []rehearsal.Step{}
	}
	if kept.State == rehearsal.Ended {
		a.WaysBack, a.With = kept.Result.WaysBack(), kept.Result.With()
		a.Surroundings = append(a.Surroundings, kept.Result.Surroundings()...)
	}
	return a
}
