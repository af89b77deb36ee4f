package service

import (
	"context"
	"fmt"

	"vorrang/core/access"
	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/remedy"
	"vorrang/core/verify"
	"vorrang/records"
	"vorrang/service/api"
)

// ask adds to the facts what the environment's gate asks beyond what every gate
// does.
func (s *gates) ask(ctx context.Context, p targetContext, facts *gate.Facts, who promotionRequest) error {
	facts.Now, facts.Asks, facts.Through = s.Now(), p.environment.Asks(), who.through
	if p.release != nil {
		facts.Release, facts.Digest = p.release.Name, p.release.Digest
	}
	var err error
	if facts.Freezes, err = s.Records.Freezes(ctx, p.lane.Name, p.environment.Name, facts.Now); err != nil {
		return err
	}
	if facts.Asks.Backup > 0 {
		if facts.Backup, err = s.Records.Backup(ctx, p.lane.Name, p.environment.Name); err != nil {
			return err
		}
	}
	if err := s.askPeople(ctx, p, facts, who); err != nil {
		return err
	}
	if err := s.askRehearsal(ctx, p, facts); err != nil {
		return err
	}
	before := p.lane.Before(p.environment.Name)
	if before == "" || !facts.Asks.Previous && facts.Asks.Soak == 0 {
		return nil
	}
	there, err := s.lookBefore(ctx, p, before, who.befores)
	if err != nil {
		return err
	}
	for _, one := range there {
		previous := gate.Previous{
			Name: one.seen.Name, View: one.seen.Facts.View, Entries: one.seen.Entries, Unreached: one.unreached,
		}
		if one.unreached == "" {
			for _, d := range verify.Against(p.lane.Name, one.seen, verify.Environment{Name: p.environment.Name, Facts: *facts}) {
				previous.Differences = append(previous.Differences, d.What)
			}
		}
		facts.PreviousFleet = append(facts.PreviousFleet, previous)
	}
	facts.Previous = &facts.PreviousFleet[0]
	if lane.TargetOf(facts.Previous.Name) == "" {
		facts.PreviousFleet = nil
	}
	return nil
}

// placeOf is an environment to which a release is to go; loose steps if it is
// empty.
func (s *gates) placeOf(ctx context.Context, lane, environment, release string) (targetContext, error) {
	p, err := s.targets.place(ctx, lane, environment)
	if err != nil {
		return p, err
	}
	return s.library.narrow(ctx, p, release)
}

// fleetOrPlace is placeOf, also for an environment that is a fleet.
func (s *gates) fleetOrPlace(ctx context.Context, lane, environment, release string) (targetContext, error) {
	p, err := s.targets.environment(ctx, lane, environment)
	if err != nil {
		return p, err
	}
	return s.library.narrow(ctx, p, release)
}

// gate answers what a promotion would be asked now.
func (s *gates) gate(c call, in *gateIn) (*api.GateAnswer, error) {
	p, err := s.fleetOrPlace(c, in.Lane, in.Environment, in.Release)
	if err != nil {
		return nil, err
	}
	result, held, err := s.now(c, p, promotionRequest{actor: c.asker(in.Lane, in.Environment)})
	if err != nil {
		return nil, err
	}
	freezes, err := s.Records.Freezes(c, in.Lane, in.Environment, s.Now())
	if err != nil {
		return nil, err
	}
	answer := &api.GateAnswer{
		Gate:     gate.WordOf(held),
		Checks:   result.Checks,
		Notes:    append([]string{}, result.Notes...),
		Waivable: []gate.ID{},
		Freeze:   gate.Facts{Now: s.Now(), Freezes: freezes}.Frozen(),
	}
	for _, hold := range result.Holds() {
		if gate.Waivable(hold.ID) && p.environment.Fleet == nil { // a waiver is for one target
			answer.Waivable = append(answer.Waivable, hold.ID)
		}
	}
	return answer, nil
}

// now asks the gate what it would say to a promotion, and whether that is held: the gate of each
// target, where it is a fleet, of which some may be tolerated.
func (s *gates) now(
	ctx context.Context, p targetContext, who promotionRequest,
) (result gate.Result, held bool, err error) {
	if p.environment.Fleet == nil {
		facts, err := s.survey(ctx, p, who)
		result = gate.Forward(facts)
		return result, result.Held(), err
	}
	places, err := s.targets.inUse(ctx, p)
	if err != nil {
		return result, true, err
	}
	w, err := forwardRequest(string(who.through), "", false)
	if err != nil {
		return result, true, err
	}
	seen, err := s.surveyAll(ctx, places, w, who.actor)
	if err != nil {
		return result, true, err
	}
	answer := answerOf(p, seen)
	return answer.gate, answer.held, nil
}

// survey gathers all that the gate looks at, without a lock.
func (s *gates) survey(ctx context.Context, p targetContext, who promotionRequest) (gate.Facts, error) {
	facts, err := s.lookOnce(ctx, p, who)
	if err != nil {
		return facts, err
	}
	running, err := s.Records.Running(ctx, p.lane.Name, p.environment.Name)
	if err != nil {
		return facts, err
	}
	facts.Running = runningOf(running)
	return facts, s.ask(ctx, p, &facts, who)
}

// lookOnce looks at a target in a session of its own. Its turn is waited for as long as the caller
// waits: what others take long for says nothing about this target.
func (s *gates) lookOnce(ctx context.Context, p targetContext, who promotionRequest) (gate.Facts, error) {
	within, leave, err := s.looking.enter(ctx, p)
	if err != nil {
		return gate.Facts{}, err
	}
	defer leave()
	facts, err := s.lookNow(within, p, who)
	if err != nil && ctx.Err() == nil && within.Err() != nil {
		err = fmt.Errorf("it did not answer within %s: %w", s.looking.patience, err)
	}
	return facts, err
}

func (s *gates) lookNow(ctx context.Context, p targetContext, who promotionRequest) (gate.Facts, error) {
	session, back, err := s.targets.borrow(ctx, p, "vorrangd status")
	if err != nil {
		return gate.Facts{}, err
	}
	well := false
	defer func() { back(well) }()
	facts, err := s.look(ctx, p, session, who)
	well = err == nil
	if err == nil && facts.Entries == 0 { // a deployment would ask all targets of a fleet
		s.targets.noteIdentity(ctx, p, session)
	}
	return facts, err
}

// underLock gathers all that the gate looks at, for who holds the target's lock.
func (s *gates) underLock(
	ctx context.Context, p targetContext, session engine.Session, who promotionRequest,
) (gate.Facts, error) {
	facts, err := s.look(ctx, p, session, who)
	if err != nil {
		return facts, err
	}
	return facts, s.ask(ctx, p, &facts, who)
}

// look looks at a target, and at its schema where the gate asks for that.
func (s *gates) look(
	ctx context.Context, p targetContext, session engine.Session, who promotionRequest,
) (gate.Facts, error) {
	facts, _, err := s.targets.look(ctx, p, session)
	if err == nil {
		err = s.drifts.askSchema(ctx, p, session, &facts)
	}
	if err == nil {
		err = s.askFindings(ctx, p, session, &facts, who)
	}
	return facts, err
}

// askPeople adds to the facts what people added to the gate.
func (s *gates) askPeople(c context.Context, p targetContext, facts *gate.Facts, who promotionRequest) (err error) {
	lane, environment := p.lane.Name, p.environment.Name
	facts.Actor = who.actor
	if facts.Asks.Approvals > 0 {
		if err := s.askApprovers(c, p, facts); err != nil {
			return err
		}
	}
	if len(facts.Asks.Signers) > 0 && p.release != nil {
		r, steps, err := s.library.sealedSteps(c, lane, p.release.Name)
		if err != nil {
			return err
		}
		signatures, err := s.library.signatures(c, r, steps)
		if err != nil {
			return err
		}
		for _, signature := range signatures {
			facts.Signed = append(facts.Signed, signature.Key)
		}
	}
	if len(facts.Asks.Signers) > 0 && who.back {
		if facts.Vouched, err = s.library.vouched(c, p, facts.Asks); err != nil {
			return err
		}
	}
	if facts.Asks.NotAuthors {
		if facts.Authors, err = s.Records.Authors(c, lane, facts.Digest); err != nil {
			return err
		}
	}
	if facts.Waivers, err = s.Records.Waivers(c, lane, environment, facts.Now, who.deployment); err != nil {
		return err
	}
	facts.Changes, err = s.Records.AskingSince(c, lane, environment)
	return err
}

// askApprovers finds out whose approvals count now.
func (s *gates) askApprovers(ctx context.Context, p targetContext, facts *gate.Facts) (err error) {
	if facts.Approved, err = s.Records.Approvals(ctx, p.lane.Name, p.environment.Name); err != nil {
		return err
	}
	for _, a := range facts.Approved {
		if facts.Digest != "" && a.Digest == facts.Digest {
			facts.Given = append(facts.Given, a)
		}
	}
	if facts.Makers, err = s.Records.Makers(ctx); err != nil {
		return err
	}
	facts.Unfit = map[string]string{}
	people, err := s.Records.People(ctx, records.ListQuery{})
	if err != nil {
		return err
	}
	for _, person := range people {
		scope := access.Scope{Lane: p.lane.Name, Environment: p.environment.Name}
		switch {
		case person.Disabled != nil:
			facts.Unfit[person.Name] = person.Name + " may not sign in any more"
		case !person.All().Allow(access.By(access.Approver), scope):
			facts.Unfit[person.Name] = person.Name + " is not an approver here any more"
		}
	}
	return nil
}

// governed is an environment to which a release is to go, or whose ways back this
// is about.
func (s *gates) governed(c call, laneName, environment, release string, waysBack bool) (targetContext, error) {
	p, err := s.fleetOrPlace(c, laneName, environment, release)
	if err == nil && (release == "") != waysBack {
		err = badRequest(
			see(remedy.LookAtReleases, "see which there are"),
			"release: name the release that this is about, or say that it is about ways back",
		)
	}
	return p, err
}
