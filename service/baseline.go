package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"vorrang/core/access"
	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/records"
	"vorrang/work"
)

// checkBaseline applies the lane's steps to a scratch database and compares its
// schema with the target's, after every step: all that the model of a schema
// describes, but for owners and grants, which differ by environment. It refuses a
// baseline at a number where they differ, and names the one that fits best.
func (s *repairs) checkBaseline(
	ctx context.Context, p targetContext, session engine.Session, at step.Number,
) (string, error) {
	w, err := workshopOf(p, by("or record the baseline without a check"))
	if err != nil {
		return "", err
	}
	there, err := session.Snapshot(ctx, p.environment.Schemas)
	if err != nil {
		return "", err
	}
	trial, err := s.builder.fit(ctx, p, w, unowned(there), at)
	if err != nil {
		return "", err
	}
	if len(trial.differences) == 0 {
		return fmt.Sprintf(
			"; checked: the schema is what these steps make, %s, but for owners and grants",
			plural.Of(len(there.Objects), "object"),
		), nil
	}
	check := p.at().Step(remedy.CheckBaseline, trial.best)
	next := p.at().
		Step(remedy.Baseline, at).
		For("no other number fits better than %s; if the differences are meant", at)
	switch {
	case trial.best == at:
	case trial.least == 0:
		next = check.For("it looks exactly as after step %s", trial.best)
	default:
		next = check.For("step %s fits best, with %s", trial.best, plural.Of(trial.least, "difference"))
	}
	return "", refuseDifferences(todo{next}, trial.differences, "%s does not look as it does after step %s: %s",
		p.environment.Name, at, plural.Of(len(trial.differences), "difference"))
}

// workshop is where scratch databases for an environment are made.
type workshop struct {
	environment string // the right to promote to it is the right to build
	reference   string
	role        string // that the databases belong to; empty for the reference's user
	declared    bool   // somebody said that this user may
}

// workshopOf finds where scratch databases for a place are made: where it says, or
// where the lane's disposable environment does, or beside that one's target.
func workshopOf(p targetContext, instead todo) (workshop, error) {
	disposable, there := lane.Environment{}, false
	for _, e := range p.lane.Environments {
		if e.Disposable && !there {
			disposable, there = e, true
		}
	}
	for _, e := range []lane.Environment{p.environment, disposable} {
		if e.Scratch == "" {
			continue
		}
		w := workshop{environment: cmp.Or(disposable.Name, e.Name), reference: e.Scratch, declared: true}
		if e.Scratch == e.Target {
			w.role = e.Role
		}
		return w, nil
	}
	if there {
		return workshop{environment: disposable.Name, reference: disposable.Target, role: disposable.Role}, nil
	}
	return workshop{}, refused(
		or(
			by("declare one in the lane file, with disposable: true, or where they may be made, with scratch:"),
			instead,
		),
		"this needs a disposable environment, on whose server a scratch database may be made",
	)
}

// trial is what a baseline's check found.
type trial struct {
	differences []string    // at the number that was asked for
	best        step.Number // where the fewest differ
	least       int
}

// scratchRun is a scratch database, and what carries the steps of a place out there
// from nothing. The caller closes it, and nothing of it stays.
type scratchRun struct {
	engine.Scratch
	runner     deploy.Runner
	everything plan.Plan
}

// newScratch makes an empty database in a workshop, for whoever may build there.
// A user who owns more than the target is not used unless somebody declared it.
func (s *builder) newScratch(ctx context.Context, p targetContext, w workshop) (engine.Scratch, error) {
	maker, can := p.engine.(engine.Workshop)
	if !can {
		return nil, refused(nil, "%s has no scratch databases in this version", p.lane.Engine)
	}
	if err := mayBuild(ctx, p, w); err != nil {
		return nil, err
	}
	url, err := s.targets.resolve(w.reference)
	if err != nil {
		return nil, err
	}
	made, err := maker.NewScratch(ctx, url, w.role, w.declared)
	var owns *engine.OwnsMore
	if errors.As(err, &owns) {
		return nil, refused(
			by(
				"declare a user and a server of their own for scratch databases, with scratch: env:NAME or file:PATH for %s; or that this user may, with scratch: %s",
				w.environment, w.reference,
			),
			"scratch databases are not made as the user of %s: %s",
			w.reference, owns,
		)
	}
	if err != nil {
		return nil, err
	}
	used := &usedScratch{
		Scratch: made,
		builder: s,
		as:      records.Scratch{Engine: p.lane.Engine, Reference: w.reference, Name: made.Name()},
	}
	if err := s.Records.AddScratch(ctx, used.as); err != nil {
		made.Close()
		return nil, err
	}
	return used, nil
}

// usedScratch is a scratch database that the records know of while it is in use.
type usedScratch struct {
	engine.Scratch
	builder *builder
	as      records.Scratch
}

// Close drops it.
func (u *usedScratch) Close() {
	u.Scratch.Close()
	ctx, cancel := context.WithTimeout(context.Background(), twinPatience)
	defer cancel()
	if err := u.builder.Records.ForgetScratch(ctx, u.as); err != nil {
		u.builder.Log.Warn(
			"a scratch database is not known to be gone; the next start looks for it",
			"name", u.as.Name, "error", err,
		)
	}
}

// left is the round, gone once after the start, that drops what was left behind.
func (s *builder) left() *work.Round {
	done := false
	return work.NewRound("scratch databases that were left behind",
		func(context.Context) (time.Time, bool, error) { return time.Time{}, !done, nil },
		func(ctx context.Context) error {
			err := s.dropLeft(ctx)
			done = err == nil
			return err
		})
}

// dropLeft drops the scratch databases of a service that was killed.
func (s *builder) dropLeft(ctx context.Context) error {
	left, err := s.Records.Scratches(ctx)
	if err != nil {
		return err
	}
	for _, one := range left {
		err := s.dropOne(ctx, one)
		if err == nil {
			err = s.Records.ForgetScratch(ctx, one)
		}
		if err != nil {
			s.Log.Warn(
				"a scratch database was left behind and is still there",
				"name", one.Name, "reference", one.Reference, "error", err,
			)
			continue
		}
		s.Log.Info("a scratch database that was left behind is dropped", "name", one.Name, "reference", one.Reference)
	}
	return nil
}

func (s *builder) dropOne(ctx context.Context, one records.Scratch) error {
	ctx, cancel := context.WithTimeout(ctx, twinPatience)
	defer cancel()
	kind, err := s.Engines.Named(one.Engine)
	if err != nil {
		return err
	}
	workshop, can := kind.(engine.Workshop)
	if !can {
		return fmt.Errorf("%s has no scratch databases in this version", one.Engine)
	}
	url, err := s.targets.resolve(one.Reference)
	if err != nil {
		return err
	}
	return workshop.DropScratch(ctx, url, one.Name)
}

// mayBuild refuses whoever could not run SQL on the server of a disposable
// environment by a promotion.
func mayBuild(ctx context.Context, p targetContext, w workshop) error {
	who, is := ctx.Value(callerKey{}).(caller)
	need, scope := access.By(access.Releaser), access.Scope{Lane: p.lane.Name, Environment: w.environment}
	if is && !who.Grants.Allow(need, scope) {
		return forbidden(who, need, scope)
	}
	return nil
}

// withinDatabase gives no text out that reaches beyond its database: the server of
// a scratch database holds others.
func withinDatabase(
	dialect engine.Dialect, texts func(context.Context, step.Checksum) ([]byte, error),
) func(context.Context, step.Checksum) ([]byte, error) {
	return func(ctx context.Context, checksum step.Checksum) ([]byte, error) {
		text, err := texts(ctx, checksum)
		if err != nil {
			return nil, err
		}
		if why := dialect.Beyond(text); why != "" {
			return nil, fmt.Errorf("it is not run in a scratch database: %s", why)
		}
		return text, nil
	}
}

// scratch makes a ground in a workshop.
func (s *builder) scratch(ctx context.Context, p targetContext, w workshop) (*scratchRun, error) {
	everything, err := plan.Forward(p.only(plan.Look(p.environment.Name, p.catalogue, ledger.Fold(nil))), "")
	if err != nil {
		return nil, err
	}
	database, err := s.newScratch(ctx, p, w)
	if err != nil {
		return nil, err
	}
	if err := database.CreateLedger(ctx); err != nil {
		database.Close()
		return nil, err
	}
	return &scratchRun{Scratch: database, everything: everything,
		runner: deploy.Runner{
			Target:     database,
			Dialect:    p.dialect(),
			Texts:      withinDatabase(p.dialect(), s.library.texts(everything)),
			Emit:       func(deploy.Event) {},
			Now:        time.Now,
			Pause:      work.Pause,
			Deployment: "scratch",
			Actor:      "vorrangd",
			Defaults:   engine.Settings{Role: w.role, LockTimeout: step.DefaultLockTimeout},
		}}, nil
}

// unowned is a schema without what differs by environment.
func unowned(s schema.Schema) schema.Schema { return s.Without(schema.OwnedByRole, schema.Grants) }

// fit applies all steps, as far as they go, and compares after each.
func (s *builder) fit(
	ctx context.Context, p targetContext, w workshop, there schema.Schema, at step.Number,
) (trial, error) {
	scratch, err := s.scratch(ctx, p, w)
	if err != nil {
		return trial{}, err
	}
	defer scratch.Close()
	made, err := scratch.Snapshot(ctx, p.environment.Schemas)
	if err != nil {
		return trial{}, err
	}
	found := trial{best: "0", least: len(schema.Effect(unowned(made), there))}
	if at == "0" {
		found.differences = differing(schema.Compare(unowned(made), there))
	}
	head := ledger.NewHead()
	next := 0
	for _, known := range p.catalogue {
		if next < len(scratch.everything.Actions) && scratch.everything.Actions[next].Step.Number == known.Number {
			result := scratch.runner.Run(
				ctx, head,
				plan.Plan{Direction: ledger.Forward, Actions: scratch.everything.Actions[next : next+1]},
			)
			head = result.Head
			next++
			if result.Outcome != deploy.Done {
				if step.Compare(known.Number, at) > 0 {
					break
				}
				return trial{}, refused(
					by("fix the step, or record the baseline without a check"),
					"step %s (%s) cannot be applied to an empty database, so the baseline cannot be checked: %s",
					known.Number, known.Slug,
					cmp.Or(result.Failure, &deploy.Failure{Message: "it was interrupted"}).Message,
				)
			}
			if made, err = scratch.Snapshot(ctx, p.environment.Schemas); err != nil {
				return trial{}, err
			}
		}
		if known.Number == at {
			found.differences = differing(schema.Compare(unowned(made), there))
		}
		if n := len(schema.Effect(unowned(made), there)); n < found.least ||
			known.Number == at && n == found.least { // every column counts
			found.best, found.least = known.Number, n
		}
	}
	return found, nil
}

// differing says what the steps make and the target has otherwise, a line for
// each object.
func differing(list []schema.Difference) []string {
	lines := []string{}
	for _, d := range list {
		name := fmt.Sprintf("%s %s", d.Kind, d.Name)
		switch d.What {
		case schema.Added:
			lines = append(lines, name+" is there, and these steps do not make it")
		case schema.Removed:
			lines = append(lines, name+" is made by these steps, and is not there")
		case schema.Changed:
			var parts []string
			for _, change := range d.Props {
				made, there := change.Words()
				parts = append(parts, fmt.Sprintf("%s is %s, and these steps make it %s", change.Name, there, made))
			}
			lines = append(lines, name+": "+strings.Join(parts, "; "))
		}
	}
	return lines
}
