package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"vorrang/core/access"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/internal/safely"
	"vorrang/records"
	"vorrang/service/api"
)

// mostLate is how late a scheduled promotion may begin. Whoever scheduled it for
// the night does not want it in the morning because the service was away.
const mostLate = 5 * time.Minute

// schedule keeps a promotion for later, if there is such a one now.
func (s *deploying) schedule(c call, p targetContext, in *promoteIn) (*api.Promoted, error) {
	if !in.At.After(s.Now()) {
		return nil, badRequest(nil, "at: it must lie in the future")
	}
	const most = 90 * 24 * time.Hour
	if in.At.Sub(s.Now()) > most {
		return nil, badRequest(nil, "at: it may lie at most 90 days ahead")
	}
	due := in.At
	if err := s.notTwice(c, in, due); err != nil {
		return nil, err
	}
	through, _ := step.ParseNumber(in.Through) // it was read before; empty for all
	now, _, err := s.gates.now(c, p, promotionRequest{through: through, actor: c.actor})
	if err != nil {
		return nil, err
	}
	kept, err := s.Records.Schedule(
		c,
		records.Scheduled{
			Lane:        in.Lane,
			Environment: in.Environment,
			Due:         due,
			Request:     in.request(), // a plan that was shown still has to be the one that runs
			Actor:       c.actor,
			Who:         c.identity(),
		},
	)
	if err != nil {
		return nil, err
	}
	s.schedules.Wake()
	c.note("scheduled", kept.ID)
	c.status(http.StatusAccepted)
	shown := scheduledOf(kept)
	return &api.Promoted{Scheduled: &shown, Gate: now.Checks, Settled: []string{}}, nil
}

// notTwice refuses a promotion that waits already for the same time.
func (s *deploying) notTwice(c call, in *promoteIn, due time.Time) error {
	list, err := s.Records.Waiting(c, in.Lane, in.Environment, "")
	if err != nil {
		return err
	}
	for _, k := range list {
		if k.Due.Equal(due) && k.Request.Release == in.Release && k.Request.Through == in.Through {
			return refused(see(remedy.LookAtScheduled, "see it, or take it back"),
				"this promotion waits already: number %d, scheduled by %s", k.ID, k.Actor)
		}
	}
	return nil
}

func scheduledOf(k records.Scheduled) api.Scheduled {
	shown := api.Scheduled{
		ID:          k.ID,
		Lane:        k.Lane,
		Environment: k.Environment,
		At:          k.Due,
		Actor:       k.Actor,
		MadeAt:      k.MadeAt,
		State:       k.State,
		Message:     k.Message,
		EndedAt:     k.EndedAt,
	}
	if k.Deployment != nil {
		shown.Deployment = *k.Deployment
	}
	if k.Fleet != nil {
		shown.Fleet = *k.Fleet
	}
	shown.Release, shown.Through = k.Request.Release, k.Request.Through
	return shown
}

type scheduledIn struct {
	Lane        string `path:"lane"`
	Environment string `query:"environment" description:"Only those to this environment, or to this target of one."`
	Search      string `query:"search" description:"Only those in whose release, step, maker, state or message this stands."`
	Before      int64  `query:"before" minimum:"0" description:"Only those that wait no more, before this one: next of the page before."`
	Limit       int    `query:"limit" default:"50" minimum:"1" maximum:"500" description:"Of those that wait no more. Those that wait are all on the first page."`
}

// scheduled lists the promotions that wait, and page by page those that waited.
func (s *deploying) scheduled(c call, in *scheduledIn) (*api.ScheduledList, error) {
	if _, err := s.targets.lane(c, in.Lane); err != nil {
		return nil, err
	}
	var waiting []records.Scheduled
	if in.Before == 0 {
		var err error
		if waiting, err = s.Records.Waiting(c, in.Lane, in.Environment, in.Search); err != nil {
			return nil, err
		}
	}
	waiting = slices.DeleteFunc(waiting, func(k records.Scheduled) bool { return !c.who.mayLook(k.Lane, k.Environment) })
	ended, next, err := lookable(c.who, in.Before, in.Limit,
		func(before int64, most int) ([]records.Scheduled, error) {
			return s.Records.ScheduledBefore(c, in.Lane, in.Environment, records.ListQuery{Search: in.Search, Before: before, Limit: most})
		},
		func(k records.Scheduled) (lane, environment string) { return k.Lane, k.Environment },
		func(k records.Scheduled) int64 { return k.ID })
	answer := &api.ScheduledList{Scheduled: []api.Scheduled{}, Next: next}
	for _, k := range append(waiting, ended...) {
		answer.Scheduled = append(answer.Scheduled, scheduledOf(k))
	}
	return answer, err
}

type dropIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Scheduled   int64  `path:"scheduled"`
}

func (s *deploying) dropScheduled(c call, in *dropIn) (*nothing, error) {
	was, err := s.Records.DropScheduled(c, in.Lane, in.Environment, in.Scheduled, "by "+c.actor)
	if err == nil && !was {
		err = refuse(http.StatusNotFound, "not-found", "Not found", see(remedy.LookAtScheduled, "see which wait"),
			"no promotion to %s with the number %d waits", in.Environment, in.Scheduled)
	}
	return &nothing{}, err
}

// beginDue begins every scheduled promotion that is due. They do not wait for
// each other.
func (s *deploying) beginDue(ctx context.Context) error {
	due, err := s.Records.ClaimDue(ctx)
	if err != nil {
		return err
	}
	var wait safely.Group
	for _, d := range due {
		wait.Go(func() { s.runScheduled(ctx, d) })
	}
	wait.Wait()
	return ctx.Err()
}

// runScheduled begins one scheduled promotion, as whoever scheduled it, and
// keeps what became of it.
func (s *deploying) runScheduled(ctx context.Context, d records.Scheduled) {
	state, message, deployment := s.beginScheduled(ctx, d)
	s.running.Insist("what became of a scheduled promotion", func(ctx context.Context) error {
		_, err := s.Records.EndScheduled(ctx, d.ID, state, message, deployment)
		return err
	})
	detail, _ := json.Marshal(map[string]any{"scheduled": d.ID, "deployment": deployment}) // numbers only
	s.book.auditOwn(
		ctx,
		access.AuditEntry{
			Actor:       d.Actor,
			Operation:   "promoteScheduled",
			Lane:        d.Lane,
			Environment: d.Environment,
			Detail:      detail,
			Result:      oneLine(state + " " + message),
		},
	)
	s.Log.Info("scheduled promotion", "scheduled", d.ID, "lane", d.Lane, "environment", d.Environment,
		"actor", d.Actor, "state", state, "message", message)
}

func (s *deploying) beginScheduled(ctx context.Context, d records.Scheduled) (state, message string, deployment int64) {
	if late := s.Now().Sub(d.Due); late > mostLate {
		return "missed", fmt.Sprintf(
			"the service was away at its time, and came back %s later; promote again, or schedule it again",
			late.Round(time.Second),
		), 0
	}
	who, err := s.currentGrants(ctx, d)
	if err != nil {
		return "failed", err.Error(), 0
	}
	in := promoteIn{
		Lane: d.Lane, Environment: d.Environment,
		Through: d.Request.Through, OnFailure: d.Request.OnFailure, Release: d.Request.Release,
		Whole: d.Request.Whole, Plan: d.Request.Plan,
	}
	promoted, err := s.promote(call{Context: ctx, who: who, actor: d.Actor, scheduled: d.ID}, &in)
	var reason *problemError
	switch {
	case errors.As(err, &reason) && len(reason.problem.Checks) > 0:
		return "held", reason.problem.Detail, 0
	case err != nil:
		return "failed", s.problem(err).Detail, 0
	case promoted.Nothing:
		return "done", "there was nothing to do", 0
	case promoted.Fleet != nil: // which its beginning kept
		return "started", "", 0
	}
	return "started", "", promoted.Deployment.ID
}

// currentGrants is what somebody who scheduled a promotion may now.
func (s *deploying) currentGrants(ctx context.Context, d records.Scheduled) (caller, error) {
	was, who := d.Who, caller{Name: d.Actor, Via: "a schedule"}
	switch {
	case was.Person != "":
		person, err := s.Records.Person(ctx, was.Person)
		if err != nil {
			return who, fmt.Errorf("%s is not known any more: %w", was.Person, err)
		}
		who.Person, who.Grants = true, person.All()
	case was.Token != 0:
		token, err := s.Records.TokenNow(ctx, was.Token)
		if err != nil && !errors.Is(err, records.ErrNotFound) {
			return who, err
		}
		who.Grants = ofToken(token).Grants
	case s.Token != "":
		who.Grants = everything
	}
	scope := access.Scope{Lane: d.Lane, Environment: d.Environment}
	if need := access.By(access.Releaser); !who.Grants.Allow(need, scope) {
		return who, forbidden(who, need, scope)
	}
	return who, nil
}
