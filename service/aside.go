package service

import (
	"strings"

	"vorrang/core/lane"
	"vorrang/core/remedy"
	"vorrang/records"
	"vorrang/service/api"
)

type setAsideIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment" description:"ENVIRONMENT.TARGET."`
	Reason      string `json:"reason" required:"true" minLength:"1"`
}

// setAside has deployments to a fleet, and gates, pass over a target.
func (s *gates) setAside(c call, in *setAsideIn) (*api.SetAside, error) {
	p, err := s.ofFleet(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	a := records.Aside{
		Target: lane.TargetOf(p.environment.Name), Reason: strings.Join(strings.Fields(in.Reason), " "), By: c.actor, At: s.Now().UTC(),
	}
	if a.Reason == "" {
		return nil, badRequest(nil, "reason: say why; it is shown at the gate")
	}
	err = s.Records.Change(c, in.Lane, func() error {
		return s.Records.SetAside(c, in.Lane, lane.EnvironmentOf(in.Environment), a)
	})
	if err != nil {
		return nil, err
	}
	s.looking.changed()
	return &api.SetAside{Target: a.Target, Reason: a.Reason, By: a.By, At: a.At}, nil
}

type takeBackIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment" description:"ENVIRONMENT.TARGET."`
}

// takeBack ends that.
func (s *gates) takeBack(c call, in *takeBackIn) (*nothing, error) {
	if _, err := s.ofFleet(c, in.Lane, in.Environment); err != nil {
		return nil, err
	}
	var was bool
	err := s.Records.Change(c, in.Lane, func() (err error) {
		was, err = s.Records.TakeBack(c, in.Lane, lane.EnvironmentOf(in.Environment), lane.TargetOf(in.Environment))
		return err
	})
	if err == nil && !was {
		err = refused(see(remedy.LookAtStatus, "see which are"), "%s is not set aside", in.Environment)
	}
	s.looking.changed()
	return &nothing{}, err
}

// ofFleet is a place that is one target of a fleet.
func (s *gates) ofFleet(c call, laneName, environment string) (targetContext, error) {
	p, err := s.targets.place(c, laneName, environment)
	if err == nil && lane.TargetOf(environment) == "" {
		err = refused(nil, "%s is not a target of a fleet, and cannot be set aside", environment)
	}
	return p, err
}
