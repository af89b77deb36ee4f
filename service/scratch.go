package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"vorrang/core/access"
	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/work"
)

// workshop is where scratch databases for an environment are made.
type workshop struct {
	environment string // the right to promote to it is the right to build
	reference   string
	role        string // that the databases belong to; empty for the reference's user
	declared    bool   // the lane says that this user may
	clone       bool   // the reference's database is copied, with all that it holds
}

// workshopOf finds where scratch databases for a place are made: where it says, or
// where the lane's disposable environment does, or beside that one's target.
func workshopOf(p targetContext, instead todo) (workshop, error) {
	disposable, there := lane.Environment{}, false
	for _, e := range p.lane.Places() {
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

// scratchRun is a scratch database, and what runs the steps of a target there
// from nothing. The caller closes it, and nothing of it stays.
type scratchRun struct {
	engine.Scratch
	runner     *deploy.Runner
	everything plan.Plan
}

// newScratch makes an empty database in a workshop, for whoever may build there.
// A user who owns more than the target is not used unless the lane declares it.
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
	make := maker.NewScratch
	if w.clone {
		cloner, can := p.engine.(engine.Cloner)
		if !can {
			return nil, refused(nil, "a database of %s cannot be copied in this version", p.lane.Engine)
		}
		make = cloner.Clone
	}
	made, err := make(ctx, url, w.role, w.declared)
	var owns *engine.OwnsMore
	if errors.As(err, &owns) {
		fix := by("declare a user of its own for scratch databases, with scratch: env:NAME or file:PATH for %s: %s",
			w.environment, owns.Fix)
		if owns.Fix == "" {
			fix = by(
				"declare a user and a server of their own for scratch databases, with scratch: env:NAME or file:PATH for %s; or "+
					"that this user may, with scratch: %s",
				w.environment, w.reference,
			)
		}
		return nil, refused(
			fix,
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

// bare is a scratch database with all the powers that its engine gives it.
func bare(database engine.Scratch) engine.Scratch {
	if used, is := database.(*usedScratch); is {
		return used.Scratch
	}
	return database
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

// dropLeft drops scratch databases of a service that was killed.
func (s *builder) dropLeft(ctx context.Context, left []records.Scratch) {
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
	runner := scratchRunner(p, w, database, s.library.texts(everything))
	return &scratchRun{Scratch: database, everything: everything, runner: runner}, nil
}

// scratchRunner runs steps of a target in a scratch database, and nothing beyond it.
func scratchRunner(
	p targetContext, w workshop, database engine.Scratch, texts func(context.Context, step.Checksum) ([]byte, error),
) *deploy.Runner {
	return &deploy.Runner{
		Target:     bare(database),
		Dialect:    p.dialect(),
		Texts:      withinDatabase(p.dialect(), texts),
		Emit:       func(deploy.Event) {},
		Now:        time.Now,
		Pause:      work.Pause,
		Deployment: "scratch",
		Actor:      "vorrangd",
		Defaults:   engine.Settings{Role: w.role, LockTimeout: step.DefaultLockTimeout},
	}
}
