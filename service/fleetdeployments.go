package service

import (
	"context"
	"net/http"
	"slices"

	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/records"
	"vorrang/service/api"
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
	return refuse(http.StatusNotFound, "not-found", "Not found", see(remedy.LookAtDeployments, "see which there are"),
		"there is no deployment to a fleet with the number %s", id)
}

func (s *deploying) fleetDeployment(c call, in *fleetDeploymentIn) (*api.FleetDeployment, error) {
	f, err := s.Records.FleetDeployment(c, in.Fleet) // whose end is written after those of its targets
	if err != nil {
		return nil, err
	}
	targets, err := s.Records.FleetTargets(c, in.Fleet)
	if err != nil {
		return nil, err
	}
	shown := fleetDeploymentOf(f, targets)
	return &shown, nil
}

type fleetDeploymentsIn struct {
	Lane        string `query:"lane"`
	Environment string `query:"environment"`
	Before      int64  `query:"before" minimum:"0" description:"Only those before this one; the newest if absent."`
	Limit       int    `query:"limit" minimum:"1" maximum:"100" default:"20"`
}

func (s *deploying) fleetDeployments(c call, in *fleetDeploymentsIn) (*api.FleetDeployments, error) {
	list, err := s.Records.FleetDeployments(c, in.Lane, in.Environment, in.Before, in.Limit+1)
	if err != nil {
		return nil, err
	}
	answer := &api.FleetDeployments{}
	if len(list) > in.Limit {
		list = list[:in.Limit]
		answer.Next = list[in.Limit-1].ID
	}
	list = slices.DeleteFunc(list, func(f records.FleetDeployment) bool { return !c.who.mayLook(f.Lane, f.Environment) })
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
		err = refused(see(remedy.LookAtDeployments, "see what became of it"),
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
