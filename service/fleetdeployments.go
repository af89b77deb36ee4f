package service

import (
	"bufio"
	"context"
	"net/http"
	"reflect"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/records"
	"vorrang/service/api"
	"vorrang/work"
)

func fleetDeploymentOf(f records.FleetDeployment, targets []records.FleetTarget) api.FleetDeployment {
	shown := api.FleetDeployment{
		ID: f.ID, Lane: f.Lane, Environment: f.Environment, Direction: f.Direction, Outcome: f.Outcome, Message: f.Message,
		Release: f.Request.Release, Actor: f.Actor, Waves: f.Waves, StartedAt: f.StartedAt, EndedAt: f.EndedAt,
		Counts: map[plan.Stand]int{},
	}
	if f.Paused != nil {
		shown.Paused = *f.Paused
	}
	if f.Cancel != nil {
		shown.Cancel = *f.Cancel
	}
	for _, t := range targets {
		shown.Counts[t.Stand]++
		one := api.FleetTarget{
			Target: t.Target, Wave: t.Wave, Stand: t.Stand, Message: t.Message, BeganAt: t.BeganAt, EndedAt: t.EndedAt,
		}
		if t.Deployment != nil {
			one.Deployment = *t.Deployment
		}
		shown.Targets = append(shown.Targets, one)
	}
	return shown
}

type fleetDeploymentIn struct {
	Fleet int64 `path:"fleet"`
}

func noFleetDeployment(id string) error {
	return refuse(http.StatusNotFound, "not-found", "Not found", see(remedy.LookAtFleets, "see which there are"),
		"there is no deployment to a fleet with the number %s", id)
}

// fleetDeployment answers with how one stands, or, where the client accepts an event stream, with that
// and what changes in it until it has ended.
func (s *deploying) fleetDeployment(c call, in *fleetDeploymentIn) (*api.FleetDeployment, error) {
	if !streamed(c) {
		return s.fleetNow(c, in.Fleet)
	}
	lane, environment, err := s.Records.PlaceOfFleet(c, in.Fleet)
	if err != nil {
		return nil, err
	}
	return nil, s.stream(c, lane, environment, func(w *bufio.Writer, still func() bool) error {
		return s.streamFleet(w, in.Fleet, still)
	})
}

func (s *deploying) fleetNow(ctx context.Context, id int64) (*api.FleetDeployment, error) {
	f, err := s.Records.FleetDeployment(ctx, id) // whose end is written after those of its targets
	if err != nil {
		return nil, err
	}
	targets, err := s.Records.FleetStands(ctx, id)
	if err != nil {
		return nil, err
	}
	shown := fleetDeploymentOf(f, targets)
	return &shown, nil
}

// fleetEvery is how long changes in a deployment to a fleet may wait to be told together.
const fleetEvery = 500 * time.Millisecond

// streamFleet tells how a deployment to a fleet stands, with all of its targets, and then, as often as
// something changes, with those targets that stand in another way. Whoever comes back after a lost
// connection, to any service, is told everything first, and so misses nothing.
func (s *deploying) streamFleet(w *bufio.Writer, id int64, still func() bool) error {
	ctx := s.running.Context()
	heard, leave := s.news.follow(topic("fleet", id)) // before anything is read
	defer leave()
	var told api.FleetDeployment
	for looked := time.Now(); ; {
		now, err := s.fleetNow(ctx, id)
		if err != nil {
			return err
		}
		if change, changed := changeIn(told, *now); changed && writeEvent(w, "fleet", change) != nil {
			return nil // nobody reads any more
		}
		if told = *now; now.Outcome != deploy.Running {
			return nil
		}
		news, on := s.listens(w, heard, &looked, still)
		if !on {
			return nil
		}
		if news { // else it looks all the same: an older service beside this one tells none of a fleet
			work.Pause(ctx, fleetEvery)
		}
	}
}

// changeIn is how a deployment to a fleet stands now, with those of its targets that stood in another
// way when it was told of.
func changeIn(told, now api.FleetDeployment) (change api.FleetDeployment, changed bool) {
	change = now
	change.Targets = nil
	for i, t := range now.Targets {
		if i >= len(told.Targets) || !reflect.DeepEqual(t, told.Targets[i]) {
			change.Targets = append(change.Targets, t)
		}
	}
	told.Targets = nil
	return change, len(change.Targets) > 0 || !reflect.DeepEqual(told, change)
}

func (s *deploying) fleetDeployments(c call, in *deploymentsIn) (*api.FleetDeployments, error) {
	query, err := in.query()
	if err != nil {
		return nil, err
	}
	list, next, err := lookable(c.who, in.Before, in.Limit,
		func(before int64, most int) ([]records.FleetDeployment, error) {
			query.Before, query.Limit = before, most
			return s.Records.FleetDeployments(c, query)
		},
		func(f records.FleetDeployment) (lane, environment string) { return f.Lane, f.Environment },
		func(f records.FleetDeployment) int64 { return f.ID })
	if err != nil {
		return nil, err
	}
	answer := &api.FleetDeployments{Next: next}
	answer.Deployments, err = s.targets.counted(c, list)
	return answer, err
}

// counted are deployments to fleets with how many targets stand how.
func (s *targets) counted(ctx context.Context, list []records.FleetDeployment) ([]api.FleetDeployment, error) {
	ids := make([]int64, len(list))
	for i, f := range list {
		ids[i] = f.ID
	}
	counts, err := s.Records.FleetCounts(ctx, ids)
	shown := make([]api.FleetDeployment, len(list))
	for i, f := range list {
		shown[i] = fleetDeploymentOf(f, nil)
		for stand, n := range counts[f.ID] {
			shown[i].Counts[stand] = n
		}
	}
	return shown, err
}

// steer says something to a deployment to a fleet, wherever it runs.
func (s *deploying) steer(c call, id int64, word records.FleetWord, who, done string) (*api.FleetDeployment, error) {
	f, err := s.Records.FleetDeployment(c, id)
	if err != nil {
		return nil, err
	}
	runs, err := s.Records.SteerFleet(c, id, word, who)
	if err == nil && !runs {
		err = refused(see(remedy.LookAtFleets, "see what became of it"),
			"deployment F%d to the fleet %s ended: %s", id, f.Environment, f.Outcome)
	}
	if err != nil {
		return nil, err
	}
	s.others.soon()
	s.Log.Info("deployment to a fleet "+done, "fleet", id, "actor", c.actor)
	c.status(http.StatusAccepted)
	return s.fleetDeployment(c, &fleetDeploymentIn{id})
}

func (s *deploying) pauseFleet(c call, in *fleetDeploymentIn) (*api.FleetDeployment, error) {
	return s.steer(c, in.Fleet, records.PauseFleet, c.actor, "is paused")
}

func (s *deploying) resumeFleet(c call, in *fleetDeploymentIn) (*api.FleetDeployment, error) {
	return s.steer(c, in.Fleet, records.PauseFleet, "", "goes on")
}

func (s *deploying) cancelFleet(c call, in *fleetDeploymentIn) (*api.FleetDeployment, error) {
	return s.steer(c, in.Fleet, records.CancelFleet, c.actor, "is to end")
}
