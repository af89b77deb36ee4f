package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/target/postgres"
)

// checkBaseline applies the lane's steps to a scratch database and compares the
// names of its objects with the target's, after every step. It refuses a
// baseline at a number where they differ, and names the one that fits best.
func (s *Service) checkBaseline(ctx context.Context, p place, session *postgres.Session, at step.Number) (string, error) {
	server, err := scratchServer(p)
	if err != nil {
		return "", err
	}
	there, err := session.Names(ctx, p.environment.Schemas)
	if err != nil {
		return "", err
	}
	trial, err := s.fit(ctx, p, server, there, at)
	if err != nil {
		return "", err
	}
	if len(trial.differences) == 0 {
		return fmt.Sprintf("; checked: %s made by these steps are all there, and no others", count(len(there), "object", "objects")), nil
	}
	next := fmt.Sprintf("if the differences are meant, leave -check out; no other number fits better than %s", at)
	if trial.best != at {
		next = fmt.Sprintf("step %s fits best, with %s: vorrang baseline -lane %s -env %s -at %s -check",
			trial.best, count(trial.least, "difference", "differences"), p.lane.Name, p.environment.Name, trial.best)
	}
	return "", refuseDifferences(next, trial.differences, "%s does not look as it does after step %s: %s",
		p.environment.Name, at, count(len(trial.differences), "difference", "differences"))
}

// scratchServer is the disposable environment whose server may hold scratch
// databases.
func scratchServer(p place) (lane.Environment, error) {
	for _, e := range p.lane.Environments {
		if e.Disposable {
			return e, nil
		}
	}
	return lane.Environment{}, refused("declare one in the lane file, or leave -check out",
		"a check needs a disposable environment, on whose server a scratch database may be made")
}

// trial is what a baseline's check found.
type trial struct {
	differences []string    // at the number that was asked for
	best        step.Number // where the fewest differ
	least       int
}

// ground is a scratch database, and what carries the steps of a place out there
// from nothing. The caller closes it, and nothing of it stays.
type ground struct {
	*postgres.Scratch
	runner     deploy.Runner
	everything plan.Plan
}

// newScratch makes an empty database on the server of an environment.
func newScratch(ctx context.Context, server lane.Environment) (*postgres.Scratch, error) {
	url, err := resolve(server.Target)
	if err != nil {
		return nil, err
	}
	database, err := postgres.NewScratch(ctx, url)
	if err == nil {
		database.Role = server.Role
	}
	return database, err
}

// scratch makes a ground on the server of a disposable environment.
func (s *Service) scratch(ctx context.Context, p place, server lane.Environment) (*ground, error) {
	everything, err := plan.Forward(p.only(plan.Look(p.environment.Name, p.catalogue, ledger.Fold(nil))), "")
	if err != nil {
		return nil, err
	}
	database, err := newScratch(ctx, server)
	if err != nil {
		return nil, err
	}
	if err := database.CreateLedger(ctx); err != nil {
		database.Close()
		return nil, err
	}
	return &ground{Scratch: database, everything: everything,
		runner: deploy.Runner{Target: database.Session, Texts: s.texts(everything), Emit: func(deploy.Event) {}, Now: time.Now, Pause: pause,
			Deployment: "scratch", Actor: "vorrangd", Defaults: deploy.Settings{Role: server.Role, LockTimeout: step.DefaultLockTimeout}}}, nil
}

// fit applies all steps, as far as they go, and compares after each.
func (s *Service) fit(ctx context.Context, p place, server lane.Environment, there []string, at step.Number) (trial, error) {
	scratch, err := s.scratch(ctx, p, server)
	if err != nil {
		return trial{}, err
	}
	defer scratch.Close()
	found := trial{best: "0", least: len(there)}
	if at == "0" {
		found.differences = differing(nil, there)
	}
	head := ledger.NewHead()
	next := 0
	for _, known := range p.catalogue {
		if next < len(scratch.everything.Actions) && scratch.everything.Actions[next].Step.Number == known.Number {
			result := scratch.runner.Run(ctx, head, plan.Plan{Direction: ledger.Forward, Actions: scratch.everything.Actions[next : next+1]})
			head = result.Head
			next++
			if result.Outcome != deploy.Done {
				if step.Compare(known.Number, at) > 0 {
					break
				}
				return trial{}, refused("mend the step, or leave -check out", "step %s (%s) cannot be applied to an empty database, so the baseline cannot be checked: %s",
					known.Number, known.Slug, cmp.Or(result.Failure, &deploy.Failure{Message: "it was interrupted"}).Message)
			}
		}
		made, err := scratch.Names(ctx, p.environment.Schemas)
		if err != nil {
			return trial{}, err
		}
		d := differing(made, there)
		if known.Number == at {
			found.differences = d
		}
		if len(d) < found.least || known.Number == at && len(d) == found.least {
			found.best, found.least = known.Number, len(d)
		}
	}
	return found, nil
}

// differing lists what only one of two sorted lists of names has.
func differing(made, there []string) []string {
	differences := []string{}
	for _, name := range there {
		if _, both := slices.BinarySearch(made, name); !both {
			differences = append(differences, name+" is there, and these steps do not make it")
		}
	}
	for _, name := range made {
		if _, both := slices.BinarySearch(there, name); !both {
			differences = append(differences, name+" is made by these steps, and is not there")
		}
	}
	return differences
}
