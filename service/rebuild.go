package service

import (
	"context"
	"fmt"

	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/plan"
	"vorrang/service/api"
	"vorrang/target/postgres"
)

type rebuildIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Confirm     string `json:"confirm,omitempty" description:"The environment's name, typed."`
}

// rebuild empties a disposable environment and applies everything. Nothing but
// the lane's declaration makes an environment disposable.
func (s *Service) rebuild(c call, in *rebuildIn) (*api.Promoted, error) {
	p, err := s.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	if err := rebuildable(p); err != nil {
		return nil, err
	}
	if in.Confirm != in.Environment {
		return nil, s.unconfirmed(c, p)
	}
	return s.deploy(c, p, wish{
		plan:  func(view plan.View) (plan.Plan, error) { return plan.Rebuild(view), nil },
		gate:  gate.Rebuild,
		first: func(p place, session *postgres.Session) error { return s.onlyDisposable(c, p, session) },
	})
}

func rebuildable(p place) error {
	if p.environment.Disposable {
		return nil
	}
	return refused("a rebuild is for environments that the lane file declares disposable",
		"%s is not disposable: nothing may empty it", p.environment.Name)
}

// unconfirmed says what a rebuild would drop.
func (s *Service) unconfirmed(ctx context.Context, p place) error {
	session, err := connect(ctx, p.environment, "vorrangd")
	if err != nil {
		return err
	}
	defer session.Close()
	existing, err := session.Existing(ctx, p.environment.Schemas)
	if err != nil {
		return err
	}
	return refused(fmt.Sprintf("if that is meant, type the environment's name: -confirm %s", p.environment.Name),
		"a rebuild drops everything in the application's schemas of %s (%s, with their rows), and applies all steps again", p.environment.Name, existing)
}

// onlyDisposable makes sure that no environment that is not disposable, of any
// lane, has the same database as its target. What cannot be looked at is not
// guessed.
func (s *Service) onlyDisposable(ctx context.Context, p place, session *postgres.Session) error {
	if err := rebuildable(p); err != nil {
		return err
	}
	lanes, err := s.Records.Lanes(ctx)
	if err != nil {
		return err
	}
	for _, l := range lanes {
		for _, e := range l.Environments {
			if e.Disposable {
				continue
			}
			if err := apart(ctx, session, l, e); err != nil {
				return err
			}
		}
	}
	return nil
}

func apart(ctx context.Context, session *postgres.Session, l lane.Lane, e lane.Environment) error {
	ctx, cancel := context.WithTimeout(ctx, lookTimeout)
	defer cancel()
	same := false
	other, err := connect(ctx, e, "vorrangd")
	if err == nil {
		defer other.Close()
		same, err = session.SameDatabase(ctx, other)
	}
	switch {
	case err != nil:
		return refused("let the service reach it, and try again",
			"whether %s/%s, which is not disposable, has another database could not be seen: %s", l.Name, e.Name, unreachable(err).Message)
	case same:
		return refused("give each environment a database of its own, in what the target references stand for",
			"this database is also the target of %s/%s, which is not disposable: nothing may empty it", l.Name, e.Name)
	}
	return nil
}
