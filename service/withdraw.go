package service

import (
	"cmp"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/service/api"
)

type withdrawIn struct {
	Lane string `path:"lane"`
	Step string `path:"step"`
}

// withdraw takes the newest step back out of the catalogue. It holds the locks
// of all targets meanwhile, so that none applies the step.
func (s *catalogue) withdraw(c call, in *withdrawIn) (*api.Withdrawn, error) {
	l, err := s.targets.lane(c, in.Lane)
	if err != nil {
		return nil, err
	}
	number, err := step.ParseNumber(in.Step)
	if err != nil {
		return nil, badRequest(nil, "step: %s", err)
	}
	turn, err := s.library.submission(c, in.Lane) // nobody submits meanwhile
	if err != nil {
		return nil, err
	}
	defer turn.Abandon()
	newest, err := s.newest(c, in.Lane, number)
	if err != nil {
		return nil, err
	}
	var held []engine.Session
	defer func() {
		for _, session := range held {
			session.Close()
		}
	}()
	for _, e := range unreadFleets(l) {
		return nil, refused(by("let the service read it, and try again"),
			"whether step %s is applied in %s could not be seen: %s", number, e.Name, e.Fleet.Unread)
	}
	for _, e := range l.Places() {
		session, err := s.unapplied(c, l.Name, e.Name, number)
		if session != nil {
			held = append(held, session)
		}
		if err != nil {
			return nil, err
		}
	}
	if sealed, err := s.Records.SealedIn(c, in.Lane, number); err != nil || sealed != "" {
		return nil, cmp.Or(
			err,
			refused(
				by("undo it with a new step"),
				"step %s is sealed in release %s, and cannot leave the catalogue",
				number, sealed,
			),
		)
	}
	left := 0
	err = s.Records.Change(c, in.Lane, func() (err error) {
		left, err = s.Records.Withdraw(c, in.Lane, number, c.actor)
		return err
	})
	if err != nil {
		return nil, err
	}
	s.Log.Info("step withdrawn", "lane", in.Lane, "step", number, "actor", c.actor)
	answer := &api.Withdrawn{
		StepRef: api.StepRef{Number: number, Slug: newest.Slug},
		Files:   []string{newest.Forward.Name},
		Steps:   left,
	}
	for _, file := range []*plan.Text{newest.Back, newest.Check} {
		if file != nil {
			answer.Files = append(answer.Files, file.Name)
		}
	}
	return answer, nil
}

// newest makes sure that a step is the catalogue's last.
func (s *catalogue) newest(c call, laneName string, number step.Number) (plan.Step, error) {
	catalogue, err := s.Records.Catalogue(c, laneName)
	if err != nil {
		return plan.Step{}, err
	}
	for i, known := range catalogue {
		if known.Number != number {
			continue
		}
		if last := catalogue[len(catalogue)-1]; i < len(catalogue)-1 {
			return known, refused(by("withdraw the later steps first, or undo this one with a new step"),
				"step %s is not the newest of %s: step %s (%s) is", number, laneName, last.Number, last.Slug)
		}
		return known, nil
	}
	return plan.Step{}, notFound(
		"step "+string(number)+" in the lane",
		laneName,
		noSuchStep(s.targets.first(c, laneName)),
	)
}

// unapplied locks a target and makes sure that nothing of a step is in it.
func (s *catalogue) unapplied(c call, laneName, environment string, number step.Number) (engine.Session, error) {
	p, err := s.targets.place(c, laneName, environment)
	if err != nil {
		return nil, err
	}
	session, err := s.targets.connect(c, p, "vorrangd withdraw")
	if err != nil {
		return nil, refused(by("let the service reach it, and try again"),
			"whether step %s is applied on %s could not be seen: %s", number, environment, unreachable(err).Message)
	}
	if err := s.targets.lock(c, p, session); err != nil {
		return session, err
	}
	facts, _, err := s.targets.look(c, p, session)
	if err != nil {
		return session, err
	}
	st := facts.View.State.Of(number)
	if st.Status.Present() || st.Status == ledger.StatusInDoubt || st.Partly() {
		return session, refused(
			or(p.do(remedy.Rollback, "roll it back there first"), by("undo it with a new step")),
			"step %s is %s on %s", number, st.Status, environment,
		)
	}
	return session, nil
}
