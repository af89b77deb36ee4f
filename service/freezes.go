package service

import (
	"strings"
	"time"

	"vorrang/core/gate"
	"vorrang/core/remedy"
	"vorrang/service/api"
)

type freezeIn struct {
	Lane        string    `path:"lane"`
	Environment string    `path:"environment"`
	From        time.Time `json:"from,omitempty" description:"Now, if absent."`
	Until       time.Time `json:"until" required:"true"`
	Reason      string    `json:"reason" required:"true" minLength:"1"`
}

// freeze forbids promotions to an environment for a time.
func (s *gates) freeze(c call, in *freezeIn) (*gate.Freeze, error) {
	if _, err := s.targets.environment(c, in.Lane, in.Environment); err != nil {
		return nil, err
	}
	now := s.Now()
	f := gate.Freeze{From: in.From, Until: in.Until, Reason: strings.Join(strings.Fields(in.Reason), " "), By: c.actor}
	if f.From.IsZero() {
		f.From = now
	}
	switch {
	case f.Reason == "":
		return nil, badRequest(nil, "reason: say why; the people it holds read it")
	case !f.Until.After(f.From), !f.Until.After(now):
		return nil, badRequest(nil, "until: it must lie in the future, and after from")
	}
	err := s.Records.Change(c, in.Lane, func() (err error) {
		f, err = s.Records.AddFreeze(c, in.Lane, in.Environment, f)
		return err
	})
	s.Log.Info("environment frozen", "lane", in.Lane, "environment", in.Environment, "until", f.Until,
		"reason", f.Reason, "actor", c.actor)
	return &f, err
}

type thawIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Reason      string `json:"reason" required:"true" minLength:"1"`
}

// thaw ends all freezes of an environment, also those to come.
func (s *gates) thaw(c call, in *thawIn) (*api.Thawed, error) {
	p, err := s.targets.environment(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	if strings.TrimSpace(in.Reason) == "" {
		return nil, badRequest(nil, "reason: say why the freeze may end")
	}
	ended, err := s.Records.Thaw(c, in.Lane, in.Environment, c.actor, s.Now())
	if err == nil && ended == 0 {
		err = s.notFrozen(c, p, in)
	}
	if err != nil {
		return nil, err
	}
	s.Log.Info("environment thawed", "lane", in.Lane, "environment", in.Environment, "reason", in.Reason,
		"actor", c.actor)
	return &api.Thawed{Ended: ended}, nil
}

// notFrozen says that there is nothing to end: a target of a fleet may be frozen with the whole
// environment, and targets without it.
func (s *gates) notFrozen(c call, p targetContext, in *thawIn) error {
	freezes, err := s.Records.Freezes(c, in.Lane, in.Environment, s.Now())
	switch {
	case err != nil:
		return err
	case len(freezes) > 0:
		whole := remedy.Place{Lane: in.Lane, Environment: freezes[0].Environment}
		return refused([]remedy.Remedy{whole.Do(remedy.Thaw).For("end it for all of its targets")},
			"%s is frozen with all of %s", in.Environment, freezes[0].Environment)
	}
	targets, err := s.Records.FrozenTargets(c, in.Lane, in.Environment, s.Now())
	if err != nil {
		return err
	}
	if len(targets) > 0 {
		one := remedy.Place{Lane: in.Lane, Environment: targets[0]}
		return refused([]remedy.Remedy{one.Do(remedy.Thaw).For("end it there, and at each other one likewise")},
			"%s is not frozen as a whole, but these targets are: %s", in.Environment, gate.Some(targets))
	}
	return refused(p.do(remedy.LookAtGate, "see what holds it"), "%s is not frozen", in.Environment)
}

type backupIn struct {
	Lane        string    `path:"lane"`
	Environment string    `path:"environment"`
	Label       string    `json:"label" required:"true" minLength:"1" description:"By which it can be found."`
	TakenAt     time.Time `json:"taken_at" required:"true" description:"When what it holds was the target's state."`
}

// backup takes the report of a job that backs a target up.
func (s *gates) backup(c call, in *backupIn) (*gate.Backup, error) {
	if _, err := s.targets.environment(c, in.Lane, in.Environment); err != nil {
		return nil, err
	}
	b := gate.Backup{Label: strings.TrimSpace(in.Label), TakenAt: in.TakenAt.UTC(), By: c.actor}
	switch {
	case b.Label == "":
		return nil, badRequest(nil, "label: name the backup, so that it can be found")
	case b.TakenAt.IsZero(), b.TakenAt.After(s.Now().Add(time.Minute)):
		return nil, badRequest(nil, "taken_at: it is a time that has passed, as in 2026-11-23T03:00:00Z")
	}
	return &b, s.Records.AddBackup(c, in.Lane, in.Environment, b)
}
