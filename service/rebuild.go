package service

import (
	"context"

	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/service/api"
)

type rebuildIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Confirm     string `json:"confirm,omitempty" description:"The environment's name, typed."`
}

// rebuild empties a disposable environment and applies everything. Nothing but
// the lane's declaration makes an environment disposable.
func (s *deploying) rebuild(c call, in *rebuildIn) (*api.Promoted, error) {
	p, err := s.targets.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	if err := rebuildable(p); err != nil {
		return nil, err
	}
	if in.Confirm != in.Environment {
		return nil, s.unconfirmed(c, p)
	}
	return s.deploy(c, p, deploymentRequest{
		plan:  func(view plan.View) (plan.Plan, error) { return plan.Rebuild(view), nil },
		gate:  gate.Rebuild,
		first: func(p targetContext, session engine.Session) error { return s.emptyable(c, p, session) },
	})
}

func rebuildable(p targetContext) error {
	if p.environment.Disposable {
		return nil
	}
	return refused(by("a rebuild is for environments that the lane file declares disposable"),
		"%s is not disposable: nothing may empty it", p.environment.Name)
}

// unconfirmed says what a rebuild would drop.
func (s *deploying) unconfirmed(ctx context.Context, p targetContext) error {
	session, err := s.targets.connect(ctx, p, "vorrangd")
	if err != nil {
		return err
	}
	defer session.Close()
	existing, err := session.Existing(ctx, p.environment.Schemas)
	if err != nil {
		return err
	}
	return refused(
		todo{confirm(p.environment.Name).For("if that is meant, type the environment's name")},
		"a rebuild drops everything in the application's schemas of %s (%s, with their rows), and applies all steps again",
		p.environment.Name, existing,
	)
}

// emptyable makes sure that no other environment, of any lane, has the same
// database as a disposable one. What cannot be read is not guessed, unless
// the ledger itself says whose the database is. A history that is not what was
// seen, or another environment's, is taken over by the rebuild: it goes anyway.
func (s *deploying) emptyable(c call, p targetContext, session engine.Session) error {
	if err := rebuildable(p); err != nil {
		return err
	}
	others, err := s.targets.others(c, p)
	if err != nil {
		return err
	}
	twin, unreached, err := s.targets.twin(c, session, others)
	if err != nil {
		return err
	}
	if twin != nil {
		return refused(by("give each environment a database of its own, in what the target references stand for"),
			"this database is also the target of %s/%s: nothing may empty it", twin.lane.Name, twin.environment.Name)
	}
	facts, _, err := s.targets.look(c, p, session)
	if err != nil {
		return err
	}
	own := ledger.Owner{Lane: p.lane.Name, Environment: p.environment.Name}
	for _, other := range unreached {
		if other.environment.Disposable || facts.View.State.Belongs == own {
			continue
		}
		return refused(
			or(
				by("let the service reach it, and try again"),
				p.do(remedy.Adopt, "if you know that this database is "+p.environment.Name+"'s own, record that first"),
			),
			"whether %s/%s, which is not disposable, has another database could not be seen, and the ledger does not say "+
				"whose this one is",
			other.lane.Name, other.environment.Name,
		)
	}
	if facts.Chain == nil && !facts.Foreign() {
		return nil
	}
	f, err := s.repairs.find(c, p, session)
	if err != nil {
		return err
	}
	_, err = s.repairs.takeOverTarget(c, p, session, f, "rebuild")
	return err
}
