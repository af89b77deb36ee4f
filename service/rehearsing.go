package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/draft"
	"vorrang/core/engine"
	"vorrang/core/plan"
	"vorrang/core/rehearsal"
	"vorrang/core/remedy"
	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/internal/safely"
	"vorrang/records"
	"vorrang/work"
)

// rehearsalPatience bounds a rehearsal, which may be on a copy of a large database.
const rehearsalPatience = 6 * time.Hour

// rehearsalAsked is what is to be rehearsed.
type rehearsalAsked struct {
	release string
	through step.Number
	rows    int // of each table
	actor   string
}

// beginRehearsal looks at the target, and has a rehearsal run in the background.
func (s *deploying) beginRehearsal(
	ctx context.Context, p targetContext, asked rehearsalAsked,
) (kept records.Rehearsal, err error) {
	looking, cancel := context.WithTimeout(ctx, work.LookPatience)
	defer cancel()
	planned, target, err := s.toRehearse(looking, p, asked.through)
	if err != nil {
		return kept, err
	}
	shop, err := workshopFor(p, asked.rows)
	if err != nil {
		return kept, err
	}
	if err := mayBuild(ctx, p, shop); err != nil {
		return kept, err
	}
	sample, err := sampleOf(p, asked.rows, *target.Schema)
	if err != nil {
		return kept, err
	}
	if asked.rows > 0 { // those that stand in the way of the steps' constraints are to be among them
		in := target
		in.Phases = map[step.Phase]bool{}
		in.Count = func(query string) (int64, int64, bool) {
			sample.Also = append(sample.Also, query)
			return 0, 0, false
		}
		if _, err := s.gates.reviewPlan(looking, p, in, planned); err != nil {
			return kept, err
		}
	}
	r := rehearsing{deploying: s, p: p, planned: planned, target: target, shop: shop, sample: sample}
	r.kept, err = s.Records.BeginRehearsal(ctx, records.Rehearsal{
		Lane: p.lane.Name, Environment: p.environment.Name, Plan: planned.Digest(),
		Fingerprint: unowned(*target.Schema).Fingerprint(), Release: asked.release, Rows: asked.rows, Actor: asked.actor,
		At: s.Now().UTC(),
	})
	if err != nil {
		return kept, err
	}
	kept = r.kept // which changes from here on
	if !s.rehearsing.Run(kept.ID, r.run) {
		r.kept.State, r.kept.EndedAt = rehearsal.Interrupted, &kept.At
		if err := s.Records.EndRehearsal(ctx, r.kept); err != nil {
			return kept, err
		}
		return kept, refused(by("ask again once it runs"), "the service is stopping")
	}
	return kept, nil
}

// rehearseRelease rehearses a release that was cut, in the background, where an
// environment says so. What stands in the way is only logged: nobody waits for it.
func (s *deploying) rehearseRelease(lane, release, actor string) {
	s.running.Aside("the rehearsals of a release", func(ctx context.Context) error {
		return s.rehearseWhereAsked(ctx, lane, release, actor)
	})
}

func (s *deploying) rehearseWhereAsked(ctx context.Context, lane, release, actor string) error {
	l, err := s.targets.lane(ctx, lane)
	if err != nil {
		return err
	}
	var errs []error
	for _, e := range l.Environments {
		if !e.Rehearse {
			continue
		}
		places := e.Places()
		if len(places) == 0 {
			continue
		}
		p, err := s.gates.placeOf(ctx, lane, places[0].Name, release) // of a fleet: the first to get it
		if err == nil {
			_, err = s.beginRehearsal(ctx, p, rehearsalAsked{release: release, actor: actor})
		}
		if err != nil {
			errs = append(errs, fmt.Errorf("%s of %s on %s: %w", release, lane, e.Name, err))
		}
	}
	return errors.Join(errs...)
}

// workshopFor is where the copy for a rehearsal is made: of the clone, where one is named;
// else where the lane says, or beside the target.
func workshopFor(p targetContext, rows int) (workshop, error) {
	if reference := p.environment.RehearseOn; reference != "" {
		if rows > 0 {
			return workshop{}, refused(by("leave the rows away"), "%s is rehearsed on a copy of %s, which has all rows already",
				p.environment.Name, reference)
		}
		return workshop{
			environment: p.environment.Name, reference: reference, role: p.environment.Role, declared: true, clone: true,
		}, nil
	}
	shop, err := workshopOf(p, nil)
	if err != nil { // beside the target itself, if its user owns nothing else there
		return workshop{environment: p.environment.Name, reference: p.environment.Target, role: p.environment.Role}, nil
	}
	return shop, nil
}

// sampleOf says which rows are copied, and refuses what cannot be masked.
func sampleOf(p targetContext, rows int, now schema.Schema) (engine.Sample, error) {
	sample := engine.Sample{
		Schema: now,
		Role:   p.environment.Role,
		Most:   rows,
		Mask:   rehearsal.NewMask().Value,
	}
	if rows == 0 {
		return sample, nil
	}
	if _, can := p.engine.(engine.Sampler); !can {
		return sample, refused(by("rehearse without rows"), "rows of %s cannot be copied in this version", p.lane.Engine)
	}
	var err error
	sample.Masked, err = rehearsal.MaskedColumns(p.environment.Name, now, p.environment.Mask)
	if err != nil {
		return sample, refused(by("correct mask: in the lane file, or rehearse without rows"), "%s", err)
	}
	return sample, nil
}

// rehearsing is one rehearsal that runs.
type rehearsing struct {
	*deploying
	p       targetContext
	planned plan.Plan
	target  review.Setting
	shop    workshop
	sample  engine.Sample
	kept    records.Rehearsal
}

// run rehearses, and keeps what came of it.
func (r *rehearsing) run(ctx context.Context, emit func(deploy.Event)) deploy.Event {
	limited, cancel := context.WithTimeout(ctx, rehearsalPatience)
	defer cancel()
	var result rehearsal.Result
	// after a fault it is kept that there is no result, too
	err := safely.Do(func() (err error) { result, err = r.try(limited, emit); return err })
	a := &r.kept
	switch a.State = rehearsal.Ended; {
	case err == nil:
		a.Result = result
	case work.Stopped(ctx):
		a.State, a.Message = rehearsal.Interrupted, "the service was stopped while it ran"
	case ctx.Err() != nil:
		a.State, a.Message = rehearsal.Cancelled, context.Cause(ctx).Error()
	case limited.Err() != nil:
		a.State, a.Message = rehearsal.BrokenOff, fmt.Sprintf("it had not ended after %s", rehearsalPatience)
	default:
		a.State, a.Message = rehearsal.BrokenOff, err.Error()
		var refused *problemError
		if errors.As(err, &refused) && len(refused.problem.Remedies) > 0 {
			a.Message += ": " + refused.problem.Remedies[0].Reason
		}
	}
	now := r.Now().UTC()
	a.EndedAt = &now
	r.running.Insist(
		"what came of a rehearsal",
		func(ctx context.Context) error { return r.Records.EndRehearsal(ctx, *a) },
	)
	why := a.Result.Why + a.Message
	r.Log.Info("rehearsed", "lane", a.Lane, "environment", a.Environment, "actor", a.Actor, "state", a.State,
		"passed", a.Result.Passed, "why", why)
	return deploy.Event{At: now, Kind: deploy.Ended, Outcome: outcomeOf(*a), Message: why}
}

func (r *rehearsing) try(ctx context.Context, emit func(deploy.Event)) (result rehearsal.Result, err error) {
	if err := context.Cause(ctx); err != nil { // before its turn
		return result, err
	}
	round := func(format string, args ...any) {
		emit(deploy.Event{At: r.Now(), Kind: deploy.Round, Message: fmt.Sprintf(format, args...)})
	}
	round("making a copy of %s/%s", r.p.lane.Name, r.p.environment.Name)
	scratch, err := r.copyOf(ctx)
	if err != nil {
		return result, err
	}
	defer scratch.Close()
	stage := rehearsal.Stage{
		Look: func(ctx context.Context) (schema.Schema, error) {
			seen, err := scratch.Snapshot(ctx, r.p.environment.Schemas)
			return unowned(seen), err
		},
		Now:    r.Now,
		Sizes:  r.target.Figures,
		Later:  r.figures,
		Runner: scratchRunner(r.p, r.shop, scratch, r.Records.Text),
		Emit:   emit,
		Cloned: r.shop.clone,
	}
	if r.sample.Most > 0 {
		if stage.Copied, err = r.rows(ctx, scratch); err != nil {
			return result, err
		}
		round("copied %s", rehearsal.CopiedRows(stage.Copied))
	}
	if reader, reads := bare(scratch).(engine.RowReader); reads && (r.sample.Most > 0 || r.shop.clone) {
		stage.Rows = reader.Contents
	}
	if spiller, tells := bare(scratch).(engine.Spiller); tells {
		stage.Spilled = spiller.TempBytes
	}
	return stage.Run(ctx, r.planned)
}

// figures reads the target's figures again.
func (r *rehearsing) figures(ctx context.Context) (review.Figures, error) {
	target, err := r.targets.connect(ctx, r.p, "vorrangd rehearsal")
	if err != nil {
		return review.Figures{}, err
	}
	defer target.Close()
	counter, counts := target.(engine.Counter)
	if !counts {
		return review.Figures{}, nil
	}
	return counter.Figures(ctx)
}

// rows copies rows of the target.
func (r *rehearsing) rows(ctx context.Context, scratch engine.Scratch) ([]engine.Sampled, error) {
	target, err := r.targets.connect(ctx, r.p, "vorrangd rehearsal")
	if err != nil {
		return nil, err
	}
	defer target.Close()
	return r.p.engine.(engine.Sampler).Sample(ctx, target, bare(scratch), r.sample)
}

// toRehearse reads what would be applied to a target, and the target's schema and sizes.
func (s *deploying) toRehearse(
	ctx context.Context, p targetContext, through step.Number,
) (planned plan.Plan, target review.Setting, err error) {
	session, err := s.targets.connect(ctx, p, "vorrangd rehearsal")
	if err != nil {
		return planned, target, err
	}
	defer session.Close()
	facts, _, err := s.targets.look(ctx, p, session)
	if err == nil {
		planned, err = plan.Forward(facts.View, through)
	}
	if err != nil {
		return planned, target, err
	}
	if facts.Existing.Any() { // which is asked where there is no history only
		return planned, target, refused(p.do(remedy.Baseline, "record first which steps it already contains"),
			"%s is an existing database without history: %s", p.environment.Name, facts.Existing)
	}
	if len(planned.Actions) == 0 {
		return planned, target, refused(p.do(remedy.LookAtStatus, "see where it stands"),
			"there is nothing to apply to %s, so there is nothing to rehearse", p.environment.Name)
	}
	if at := slices.IndexFunc(planned.Actions, func(a plan.Action) bool { return a.Resume > 0 }); at >= 0 {
		return planned, target, refused(p.do(remedy.Promote, "let it go on first"),
			"step %s is half-done on %s: a rehearsal begins at a step's first statement",
			planned.Actions[at].Step.Number, p.environment.Name)
	}
	target, err = s.gates.setting(ctx, p, session, false)
	return planned, target, err
}

// copyOf makes a copy of the target: of its schema, without rows, or of its clone. It
// refuses one that is not as the target is.
func (r *rehearsing) copyOf(ctx context.Context) (scratch engine.Scratch, err error) {
	p, now := r.p, *r.target.Schema
	if r.shop.clone {
		if err := r.otherThanTarget(ctx); err != nil {
			return nil, err
		}
	}
	if scratch, err = r.builder.newScratch(ctx, p, r.shop); err != nil {
		return nil, err
	}
	opened := scratch
	defer func() {
		if err != nil {
			opened.Close()
		}
	}()
	if !r.shop.clone {
		if err := build(ctx, p, scratch, now); err != nil {
			return nil, err
		}
	}
	there, err := scratch.Snapshot(ctx, p.environment.Schemas)
	if err != nil {
		return nil, err
	}
	if unlike := schema.Compare(unowned(now), unowned(there)); len(unlike) > 0 {
		what := "what cannot be made again cannot be rehearsed with"
		if r.shop.clone {
			what = "restore the clone again"
		}
		return nil, fmt.Errorf("the copy is not as %s is: %s: %s; %s", p.environment.Name,
			plural.Count(len(unlike), "object differs", "objects differ"), schema.Summary(unlike, 3), what)
	}
	return scratch, scratch.CreateLedger(ctx)
}

// build makes a schema in an empty database.
func build(ctx context.Context, p targetContext, scratch engine.Scratch, now schema.Schema) error {
	drafter, can := p.engine.(engine.Drafter)
	if !can {
		return fmt.Errorf("a schema of %s cannot be copied in this version", p.lane.Engine)
	}
	start, err := scratch.SnapshotWithNeeds(ctx, p.environment.Schemas)
	if err != nil {
		return err
	}
	if _, err := draft.Build(ctx, scratch, drafter, start, now, false); err != nil {
		return fmt.Errorf("the schema of %s could not be copied to a scratch database: %w", p.environment.Name, err)
	}
	return nil
}

// otherThanTarget refuses a clone that is the target of an environment.
func (r *rehearsing) otherThanTarget(ctx context.Context) error {
	clone := r.p
	clone.environment.Target = r.shop.reference
	session, err := r.targets.connect(ctx, clone, "vorrangd rehearsal")
	if err != nil {
		return fmt.Errorf("the clone that %s is rehearsed on: %w", r.p.environment.Name, err)
	}
	here, err := session.Identity(ctx)
	session.Close()
	if err != nil {
		return err
	}
	for _, e := range r.p.lane.Places() {
		other := r.p
		other.environment = e
		there := ""
		if session, err := r.targets.connect(ctx, other, "vorrangd rehearsal"); err == nil { // else it is no clone either
			there, err = session.Identity(ctx)
			session.Close()
			if err != nil {
				return err
			}
		}
		if there == here {
			return fmt.Errorf("%s leads to the target of %s: a clone is another database, with what the target held",
				r.shop.reference, e.Name)
		}
	}
	return nil
}
