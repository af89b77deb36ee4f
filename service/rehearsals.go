package service

import (
	"context"
	"errors"
	"slices"
	"time"

	"vorrang/core/draft"
	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/plan"
	"vorrang/core/rehearsal"
	"vorrang/core/remedy"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/records"
	"vorrang/service/api"
)

// askRehearsal adds the newest rehearsal of what would be promoted, where the gate asks
// for one.
func (s *gates) askRehearsal(ctx context.Context, p targetContext, facts *gate.Facts) error {
	if !facts.Asks.Rehearsal {
		return nil
	}
	planned, err := plan.Forward(facts.View, facts.Through)
	if err != nil || len(planned.Actions) == 0 {
		return nil // the promotion says so itself
	}
	kept, err := s.Records.Rehearsed(ctx, p.lane.Name, p.environment.Name, planned.Digest(), facts.Fingerprint)
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err == nil {
		facts.Rehearsed = &gate.Rehearsed{
			At: kept.At, By: kept.Actor, Passed: kept.Result.Passed, Why: kept.Result.Why,
			Notes: kept.Result.WaysBack(), Fingerprint: kept.Fingerprint,
		}
	}
	return err
}

// rehearsalPatience bounds a rehearsal, which has no rows to work on.
const rehearsalPatience = 10 * time.Minute

type rehearseIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Release     string `json:"release,omitempty"`
	Through     string `json:"through,omitempty" description:"The last step; all that wait, if absent."`
}

// rehearse tries what a promotion would apply on a copy of the target's schema, and
// keeps what came of it. The target is only read.
func (s *deploying) rehearse(c call, in *rehearseIn) (*api.Rehearsed, error) {
	p, err := s.gates.placeOf(c, in.Lane, in.Environment, in.Release)
	if err != nil {
		return nil, err
	}
	through, err := optionalNumber("through", in.Through)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(c, rehearsalPatience)
	defer cancel()
	planned, now, err := s.toRehearse(ctx, p, through)
	if err != nil {
		return nil, err
	}
	shop, err := workshopOf(p, nil)
	if err != nil {
		return nil, err
	}
	scratch, err := s.copyOf(ctx, p, shop, now)
	if err != nil {
		return nil, err
	}
	defer scratch.Close()
	stage := rehearsal.Stage{
		Look: func(ctx context.Context) (schema.Schema, error) {
			seen, err := scratch.Snapshot(ctx, p.environment.Schemas)
			return unowned(seen), err
		},
		Now:    s.Now,
		Runner: scratchRunner(p, shop, scratch, s.Records.Text),
	}
	result, err := stage.Run(ctx, planned)
	if err != nil {
		return nil, err
	}
	kept, err := s.Records.AddRehearsal(c, records.Rehearsal{
		Lane: in.Lane, Environment: in.Environment, Plan: planned.Digest(), Fingerprint: unowned(now).Fingerprint(),
		Release: in.Release, Actor: c.actor, At: s.Now().UTC(), Result: result,
	})
	if err != nil {
		return nil, err
	}
	s.Log.Info(
		"rehearsed", "lane", in.Lane, "environment", in.Environment, "actor", c.actor, "passed", result.Passed, "why",
		result.Why,
	)
	return &api.Rehearsed{
		ID: kept.ID, Lane: in.Lane, Environment: in.Environment, Release: in.Release, Plan: kept.Plan,
		Fingerprint: kept.Fingerprint, Actor: kept.Actor, At: kept.At, Result: result, WaysBack: result.WaysBack(),
	}, nil
}

// toRehearse reads what would be applied to a target, and the target's schema.
func (s *deploying) toRehearse(
	ctx context.Context, p targetContext, through step.Number,
) (planned plan.Plan, now schema.Schema, err error) {
	session, err := s.targets.connect(ctx, p, "vorrangd rehearsal")
	if err != nil {
		return planned, now, err
	}
	defer session.Close()
	facts, _, err := s.targets.look(ctx, p, session)
	if err == nil {
		planned, err = plan.Forward(facts.View, through)
	}
	if err != nil {
		return planned, now, err
	}
	if facts.Existing.Any() { // which is asked where there is no history only
		return planned, now, refused(p.do(remedy.Baseline, "record first which steps it already contains"),
			"%s is an existing database without history: %s", p.environment.Name, facts.Existing)
	}
	if len(planned.Actions) == 0 {
		return planned, now, refused(p.do(remedy.LookAtStatus, "see where it stands"),
			"there is nothing to apply to %s, so there is nothing to rehearse", p.environment.Name)
	}
	if at := slices.IndexFunc(planned.Actions, func(a plan.Action) bool { return a.Resume > 0 }); at >= 0 {
		return planned, now, refused(p.do(remedy.Promote, "let it go on first"),
			"step %s is half-done on %s: a rehearsal begins at a step's first statement",
			planned.Actions[at].Step.Number, p.environment.Name)
	}
	now, err = session.SnapshotWithNeeds(ctx, p.environment.Schemas)
	return planned, now, err
}

// copyOf makes a copy of a target's schema, without rows. It refuses one that cannot be
// made as the schema is.
func (s *deploying) copyOf(
	ctx context.Context, p targetContext, shop workshop, now schema.Schema,
) (scratch engine.Scratch, err error) {
	drafter, can := p.engine.(engine.Drafter)
	if !can {
		return nil, refused(nil, "a schema of %s cannot be copied in this version", p.lane.Engine)
	}
	if scratch, err = s.builder.newScratch(ctx, p, shop); err != nil {
		return nil, err
	}
	opened := scratch
	defer func() {
		if err != nil {
			opened.Close()
		}
	}()
	start, err := scratch.SnapshotWithNeeds(ctx, p.environment.Schemas)
	if err != nil {
		return nil, err
	}
	if _, err := draft.Build(ctx, scratch, drafter, start, now, false); err != nil {
		return nil, refused(by("see what of it cannot be made anew, and rehearse again"),
			"the schema of %s could not be copied to a scratch database: %s", p.environment.Name, err)
	}
	there, err := scratch.Snapshot(ctx, p.environment.Schemas)
	if err != nil {
		return nil, err
	}
	if unlike := schema.Compare(unowned(now), unowned(there)); len(unlike) > 0 {
		return nil, refuseDifferences(
			by("what cannot be made anew cannot be rehearsed with"),
			differing(unlike),
			"the copy is not as %s is: %s",
			p.environment.Name,
			plural.Count(len(unlike), "object differs", "objects differ"),
		)
	}
	return scratch, scratch.CreateLedger(ctx)
}
