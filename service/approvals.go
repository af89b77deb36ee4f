package service

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"

	"vorrang/core/access"
	"vorrang/core/gate"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/service/api"
)

// waiverLength is how long a waiver may wait for its deployment.
const waiverLength = 24 * time.Hour

// byPerson refuses machines, and whoever only has the administrator's token:
// what a person answers for takes a person.
func (c call) byPerson(what string) error {
	if c.who.Person {
		return nil
	}
	return refused(
		see(remedy.SignIn, "sign in under your own name"),
		"%s takes a person, and %s is none",
		what, c.actor,
	)
}

type approveIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Release     string `json:"release,omitempty" description:"That is to be promoted."`
	WaysBack    bool   `json:"ways_back,omitempty" description:"Not a release, but the ways back of the steps in place, as they are now, that were not approved with their steps."`
	Note        string `json:"note,omitempty"`
}

// approve records that somebody approves of a release on an environment, as its
// plan is now.
func (s *gates) approve(c call, in *approveIn) (*api.Approved, error) {
	p, err := s.governed(c, in.Lane, in.Environment, in.Release, in.WaysBack)
	if err != nil {
		return nil, err
	}
	if err := c.byPerson("an approval"); err != nil {
		return nil, err
	}
	if p.environment.Asks().Approvals == 0 {
		return nil, refused(
			by("an administrator declares what an environment asks, in lane.yaml"),
			"%s does not ask for approvals",
			in.Environment,
		)
	}
	given, facts, err := s.approvalsOf(c, p, in)
	if err != nil {
		return nil, err
	}
	err = s.Records.Change(c, in.Lane, func() (err error) {
		for i, one := range given {
			given[i].approval, err = s.Records.AddApproval(c, in.Lane, one.environment, one.approval)
			if err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	a := given[0].approval
	what := "release " + a.Release
	if in.WaysBack {
		what = "ways back"
	}
	s.hooks.Tell(
		c,
		api.HookEvent{
			Type:        api.EventApproved,
			Lane:        in.Lane,
			Environment: in.Environment,
			Release:     a.Release,
			Actor:       c.actor,
			Message:     fmt.Sprintf("%s approved %s for %s", c.actor, what, in.Environment),
		},
	)
	if in.WaysBack {
		return &api.Approved{Approval: a}, nil
	}
	facts.Given = append(facts.Given, a)
	return &api.Approved{Approval: a, Check: gate.Forward(facts).Find(gate.Approvals)}, nil
}

// givenApproval is an approval, and the environment or the target of a fleet that it is for.
type givenApproval struct {
	environment string
	approval    gate.Approval
}

// approvalsOf is what an approval comes to: one for an environment; one for each target of a fleet that
// has something to get, as its plan is now. facts are of the first.
func (s *gates) approvalsOf(
	c call, p targetContext, in *approveIn,
) (given []givenApproval, facts gate.Facts, err error) {
	if p.environment.Fleet == nil {
		a, facts, err := s.approval(c, p, in)
		return []givenApproval{{p.environment.Name, a}}, facts, err
	}
	places, err := s.targets.inUse(c, p)
	if err != nil {
		return nil, facts, err
	}
	type answer struct {
		approval gate.Approval
		facts    gate.Facts
		err      error
	}
	answers := make([]answer, len(places))
	each(places, mostLooks, func(i int, place targetContext) {
		one := &answers[i]
		one.approval, one.facts, one.err = s.approval(c, place, in)
	})
	var first error // where no target has anything to be approved
	for i, one := range answers {
		var reason *problemError
		name := places[i].environment.Name
		switch {
		case errors.As(one.err, &reason):
			first = cmp.Or(first, one.err)
			continue
		case one.err != nil:
			return nil, facts, fmt.Errorf("%s: %w", name, one.err)
		}
		if len(given) == 0 {
			facts = one.facts
		}
		given = append(given, givenApproval{name, one.approval})
	}
	if len(given) == 0 {
		return nil, facts, first
	}
	return given, facts, nil
}

// approval is somebody's approval for one target, as its plan is now.
func (s *gates) approval(c call, p targetContext, in *approveIn) (a gate.Approval, facts gate.Facts, err error) {
	if facts, err = s.survey(c, p, promotionRequest{}); err != nil {
		return a, facts, err
	}
	if facts.Chain != nil || facts.Strange != "" {
		return a, facts, held(p, gate.Back(facts, nil), nil)
	}
	a = facts.Approve(c.actor, strings.TrimSpace(in.Note))
	var own []step.Number
	if in.WaysBack {
		a.Steps, own = facts.WaysBack(c.actor)
	}
	name := p.environment.Name
	switch {
	case len(a.Steps) == 0 && len(own) > 0:
		return a, facts, refused(
			by("let somebody else approve them"),
			"your approval would not count: %s wrote the way back of step %s",
			c.actor, own[0],
		)
	case len(a.Steps) == 0 && in.WaysBack:
		return a, facts, refused(
			p.do(remedy.LookAtWaysBack, "ways back are shown by"),
			"every way back on %s is approved already, or belongs to a step that was edited",
			name,
		)
	case len(a.Steps) == 0:
		return a, facts, refused(
			p.do(remedy.LookAtStatus, "see where it stands"),
			"release %s would bring nothing to %s",
			in.Release, name,
		)
	}
	if why := facts.Stands(a); why != "" && !in.WaysBack {
		return a, facts, refused(by("let somebody else approve it"), "your approval would not count: %s", why)
	}
	return a, facts, nil
}

type withdrawApprovalIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Release     string `json:"release,omitempty"`
	WaysBack    bool   `json:"ways_back,omitempty" description:"Not of a release, but of ways back."`
}

// withdrawApproval takes one's own approvals of a release back.
func (s *gates) withdrawApproval(c call, in *withdrawApprovalIn) (*api.ApprovalWithdrawn, error) {
	p, err := s.governed(c, in.Lane, in.Environment, in.Release, in.WaysBack)
	if err != nil {
		return nil, err
	}
	digest := step.Checksum("")
	if p.release != nil {
		digest = p.release.Digest
	}
	var taken int64
	err = s.Records.Change(c, in.Lane, func() error {
		for _, e := range p.environment.Places() {
			n, err := s.Records.WithdrawApprovals(c, in.Lane, e.Name, digest, c.actor)
			if err != nil {
				return err
			}
			taken += n
		}
		return nil
	})
	if err == nil && taken == 0 {
		err = refused(
			p.do(remedy.LookAtGate, "see who approved"),
			"%s has not approved that for %s",
			c.actor, in.Environment,
		)
	}
	return &api.ApprovalWithdrawn{Withdrawn: taken}, err
}

type waiveIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Check       string `json:"check" required:"true" description:"The id of the check that holds."`
	Release     string `json:"release,omitempty" description:"That is to be promoted; loose steps if absent."`
	Reason      string `json:"reason" required:"true" minLength:"1"`
}

// waive lets a check's hold pass for the next deployment of a release, or of
// loose steps. The deployment's first ledger entry says so.
func (s *gates) waive(c call, in *waiveIn) (*gate.Waiver, error) {
	p, err := s.placeOf(c, in.Lane, in.Environment, in.Release)
	if err != nil {
		return nil, err
	}
	if err := c.byPerson("a waiver"); err != nil {
		return nil, err
	}
	w := gate.Waiver{
		Check:  gate.ID(in.Check),
		Reason: strings.Join(strings.Fields(in.Reason), " "),
		By:     c.actor,
		At:     s.Now().UTC(),
		Until:  s.Now().Add(waiverLength).UTC(),
	}
	if p.release != nil {
		w.Digest = p.release.Digest
	}
	switch {
	case w.Reason == "":
		return nil, badRequest(nil, "reason: say why; it is kept in the target's ledger")
	case !gate.IsCheck(w.Check):
		return nil, badRequest(p.do(remedy.LookAtGate, "see the checks"), "check: %q is not a check", in.Check)
	case !gate.Waivable(w.Check):
		return nil, refused(p.do(remedy.LookAtGate, "see what would turn it"), "nobody can waive %s", w.Check)
	}
	facts, err := s.survey(c, p, promotionRequest{})
	if err != nil {
		return nil, err
	}
	holds := gate.Forward(facts).Find(w.Check)
	if holds.Verdict != gate.Hold {
		return nil, refused(
			p.do(remedy.LookAtGate, "see what does"),
			"%s does not hold now; a waiver is for a check that does",
			w.Check,
		)
	}
	w.Subject = holds.Subject()
	err = s.Records.Change(c, in.Lane, func() (err error) {
		w, err = s.Records.AddWaiver(c, in.Lane, in.Environment, w)
		return err
	})
	return &w, err
}

// promotionRequest is who asks a gate, and for how much.
type promotionRequest struct {
	through    step.Number // the last step; empty for all
	actor      string      // empty for nobody in particular
	deployment int64       // whose waivers are used up by itself; 0 for none
	back       bool        // it is a rollback
	findings   bool        // what a review finds is wanted
	passing    bool        // it is read in passing: no question about rows is asked
	befores    *befores    // shared with the other targets of a fleet; nil for none
}

// asker is the caller, if they could ask for a promotion; to others a gate says
// what it would say to those who could.
func (c call) asker(lane, environment string) string {
	if c.who.Grants.Allow(access.By(access.Releaser), access.Scope{Lane: lane, Environment: environment}) {
		return c.actor
	}
	return ""
}
