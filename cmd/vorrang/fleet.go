package main

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/plan"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

// onEachTarget runs a command for each target of a fleet, one after the other, also behind one that it
// did not succeed for. Its error is that of the worst.
func (e *env) onEachTarget(ctx context.Context, at spot, do func(context.Context, spot) error) error {
	status, err := at.Status(ctx, at.lane, at.environment, "none")
	if err != nil {
		return err
	}
	if status.Fleet == nil {
		return usage("-target: %s has one target, and needs none named", at.environment)
	}
	var failed []string
	code := exitDone
	for _, target := range fleetTargets(status.Fleet) {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		at.environment = lane.PlaceName(status.Environment, target)
		if !*e.json {
			fmt.Fprintf(e.out, "%s\n", e.paint.strong("── "+at.environment))
		}
		err := inFlags(e.flags, do(ctx, at))
		if err == nil {
			continue
		}
		failed = append(failed, target)
		code = max(code, report(e.errs, err))
	}
	if len(failed) == 0 {
		return nil
	}
	return &codedError{
		code,
		fmt.Sprintf("%s of %d: %s", plural.Of(len(failed), "target"), status.Fleet.Targets, strings.Join(failed, ", ")),
	}
}

// fleetTargets are all targets of a fleet, by name.
func fleetTargets(f *api.FleetStatus) (list []string) {
	for _, g := range f.Groups {
		list = append(list, g.Targets...)
	}
	for _, a := range f.Aside {
		list = append(list, a.Target)
	}
	slices.Sort(list)
	return list
}

// fleetNumber reads F3, the number of a deployment to a fleet.
func fleetNumber(args []string) (int64, bool) {
	if len(args) != 1 || len(args[0]) < 2 || args[0][0] != 'F' && args[0][0] != 'f' {
		return 0, false
	}
	id, err := strconv.ParseInt(args[0][1:], 10, 64)
	return id, err == nil
}

func oneFleet(verb string, args []string) (int64, error) {
	id, is := fleetNumber(args)
	if !is {
		return 0, usage("name one deployment to a fleet: vorrang %s F3; vorrang deployments -fleets lists them", verb)
	}
	return id, nil
}

// finishFleet follows a deployment to a fleet to its end.
func finishFleet(ctx context.Context, e *env, c *client.Client, f *api.FleetDeployment) error {
	shown := map[string]plan.Stand{}
	paused := ""
	said := false
	err := c.FollowFleet(ctx, f.ID, func(now *api.FleetDeployment) error {
		f = now
		if *e.json {
			return nil
		}
		if !said {
			said = true
			printFleetHead(e, f)
		}
		if f.Paused != paused {
			paused = f.Paused
			fmt.Fprintln(e.out, e.paint.warn(pausedWords(paused)))
		}
		for _, t := range f.Targets {
			if shown[t.Target] == t.Stand || t.Stand == plan.Waiting {
				continue
			}
			if shown[t.Target] = t.Stand; t.Stand != plan.Underway && (t.Wave > 0 || t.Stand.Exception()) {
				printFleetTarget(e, f, t)
			}
		}
		return nil
	})
	if err != nil {
		if ctx.Err() != nil {
			fmt.Fprintf(e.errs, "\ndeployment F%d goes on in the service; vorrang watch F%d shows it\n", f.ID, f.ID)
		}
		return err
	}
	if err := e.print(f, func() { printFleetEnd(e, f) }); err != nil {
		return err
	}
	if f.Outcome == deploy.Done {
		return nil
	}
	return &codedError{exitFailed, ""}
}

func pausedWords(who string) string {
	if who == "" {
		return "it goes on"
	}
	return who + " paused it: no further target begins"
}

func printFleetHead(e *env, f *api.FleetDeployment) {
	waves, changed := 0, 0
	for _, t := range f.Targets {
		waves = max(waves, t.Wave)
		if t.Wave > 0 {
			changed++
		}
	}
	what := "loose steps"
	if f.Release != "" {
		what = "release " + f.Release
	}
	fmt.Fprintf(e.out, "deployment F%d %s on %s/%s: %s, %s of %d in %s, %d at once\n",
		f.ID, f.Direction, f.Lane, f.Environment, what,
		plural.Of(changed, "target"), len(f.Targets), plural.Of(waves, "wave"), f.Waves.AtOnce)
}

func printFleetTarget(e *env, f *api.FleetDeployment, t api.FleetTarget) {
	duration := ""
	if t.BeganAt != nil && t.EndedAt != nil {
		duration = took(t.EndedAt.Sub(*t.BeganAt).Milliseconds())
	}
	what := ""
	if t.Deployment > 0 {
		what = fmt.Sprintf("deployment %d", t.Deployment)
	}
	wave := ""
	switch {
	case t.Wave == 1 && f.Waves.Canary > 0:
		wave = "canary"
	case t.Wave > 0:
		wave = fmt.Sprintf("wave %d", t.Wave)
	}
	line := fmt.Sprintf("  %-8s %-24s %s  %s  %s", wave, t.Target, standPaint(e.paint, t.Stand)(fmt.Sprintf("%-10s", t.Stand)),
		fmt.Sprintf("%-16s", what), duration)
	fmt.Fprintln(e.out, strings.TrimRight(line, " "))
	if t.Message != "" && t.Stand.Exception() {
		fmt.Fprintf(e.out, "           %s\n", e.paint.dim(t.Message))
	}
}

func standPaint(p paint, s plan.Stand) func(string) string {
	switch {
	case s == plan.Reached:
		return p.good
	case s.Exception():
		return p.bad
	}
	return p.warn
}

// countWords says how many targets stand how.
func countWords(counts map[plan.Stand]int) string {
	var parts []string
	for _, s := range plan.Stands {
		if n := counts[s]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, s))
		}
	}
	return strings.Join(parts, " · ")
}

func printFleetEnd(e *env, f *api.FleetDeployment) {
	fmt.Fprintf(e.out, "deployment F%d %s: %s\n", f.ID, outcomePaint(e.paint, f.Outcome)(string(f.Outcome)), countWords(f.Counts))
	if f.Message != "" {
		fmt.Fprintf(e.out, "%s\n", f.Message)
	}
	var exceptions []string
	for _, t := range f.Targets {
		if t.Stand.Exception() {
			exceptions = append(exceptions, lane.PlaceName(f.Environment, t.Target))
		}
	}
	if len(exceptions) == 0 {
		return
	}
	where := f.Environment // which puts those together that have the same trouble
	if len(exceptions) == 1 {
		where = exceptions[0]
	}
	fmt.Fprintf(e.out, "  → %s\n", e.paint.strong(
		fmt.Sprintf("vorrang status -lane %s -env %s says how it stands, and what to do", f.Lane, where)))
}

// watchFleet shows a deployment to a fleet, live or later.
func watchFleet(ctx context.Context, e *env, id int64) error {
	c := e.client()
	f, err := c.FleetDeployment(ctx, id)
	if err != nil {
		return err
	}
	return finishFleet(ctx, e, c, f)
}

func cancelFleet(ctx context.Context, e *env, id int64) error {
	c := e.client()
	if _, err := c.CancelFleet(ctx, id); err != nil {
		return err
	}
	err := watchFleet(ctx, e, id)
	var coded *codedError
	if errors.As(err, &coded) && coded.code == exitFailed { // it was to end
		err = nil
	}
	return err
}

func listFleetDeployments(ctx context.Context, e *env, query client.DeploymentQuery) error {
	list, err := e.client().FleetDeployments(ctx, query)
	if err != nil {
		return err
	}
	return e.print(list, func() {
		if len(list.Deployments) == 0 {
			e.noDeployment(query, "nothing was deployed to a fleet yet")
			return
		}
		t := table{heads: []string{"ID", "LANE", "ENVIRONMENT", "DIRECTION", "OUTCOME", "TARGETS", "STARTED (UTC)", "ACTOR"}}
		for _, f := range list.Deployments {
			outcome := string(f.Outcome)
			if f.Paused != "" && f.Outcome == deploy.Running {
				outcome += ", paused"
			}
			t.add(plain(fmt.Sprintf("F%d", f.ID)), plain(f.Lane), plain(f.Environment), plain(string(f.Direction)),
				cell{outcome, outcomePaint(e.paint, f.Outcome)}, plain(countWords(f.Counts)), plain(moment(f.StartedAt)), plain(f.Actor))
		}
		t.print(e.out, e.paint)
		e.older(list.Next)
	})
}

func pauseCommand() command {
	return command{
		verb: "pause", takes: "FLEET-DEPLOYMENT", does: "has no further target of a fleet begin",
		explain: "Targets that are under way go on to their end. vorrang resume lets it go on.",
		example: "vorrang pause F3",
		setUp:   steerFleet("pause", (*client.Client).PauseFleet),
	}
}

func resumeCommand() command {
	return command{
		verb: "resume", takes: "FLEET-DEPLOYMENT", does: "lets a paused deployment to a fleet go on",
		example: "vorrang resume F3",
		setUp:   steerFleet("resume", (*client.Client).ResumeFleet),
	}
}

func steerFleet(
	verb string, do func(*client.Client, context.Context, int64) (*api.FleetDeployment, error),
) func(*env) func(context.Context, []string) error {
	return func(e *env) func(context.Context, []string) error {
		return func(ctx context.Context, args []string) error {
			id, err := oneFleet(verb, args)
			if err != nil {
				return err
			}
			f, err := do(e.client(), ctx, id)
			if err != nil {
				return err
			}
			return e.print(f, func() {
				fmt.Fprintf(e.out, "deployment F%d on %s/%s: %s; %s\n",
					f.ID, f.Lane, f.Environment, pausedWords(f.Paused), countWords(f.Counts))
			})
		}
	}
}

func setAsideCommand() command {
	return command{
		verb: "set-aside", does: "has deployments to a fleet, and gates, pass over one target",
		explain: "For a target that is away for long, or is taken out of use. It is named with its reason until it is taken back.",
		example: "vorrang set-aside -env production -target north-7 -reason \"its mast is being repaired\"\n" +
			"vorrang set-aside -env production -target north-7 -end\n" +
			"vorrang set-aside -env production -gone -reason \"the old gauges were sold\"",
		setUp: func(e *env) func(context.Context, []string) error {
			reason := e.flags.String("reason", "", "why; everybody who asks the gate `reads` it")
			end := e.flags.Bool("end", false, "take it back: it is asked for again")
			gone := e.flags.Bool("gone", false, "every target with a history whose line is gone from the fleet's list")
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				name := lane.TargetOf(at.environment)
				switch {
				case *gone && (name != "" || *end):
					return usage("-gone is about the fleet, and ends nothing")
				case name == "" && !*gone:
					return usage("say which target: -target NAME, or those whose line is gone from the list: -gone")
				case *end && *reason != "":
					return usage("-end takes no reason")
				case *end:
					if err := at.TakeBack(ctx, at.lane, at.environment); err != nil {
						return err
					}
					return e.print(map[string]any{"target": name}, func() {
						fmt.Fprintf(e.out, "%s/%s is asked for again\n", at.lane, at.environment)
					})
				case *reason == "":
					return usage("say why: -reason TEXT, or -end to take it back")
				case *gone:
					return setGoneAside(ctx, e, at, *reason)
				}
				a, err := at.SetAside(ctx, at.lane, at.environment, *reason)
				if err != nil {
					return err
				}
				return e.print(a, func() {
					fmt.Fprintf(e.out, "%s/%s is set aside: deployments to %s and gates pass over it\n", at.lane, at.environment,
						lane.EnvironmentOf(at.environment))
				})
			})
		},
	}
}

// setGoneAside sets the targets aside whose line is gone from a fleet's list.
func setGoneAside(ctx context.Context, e *env, at spot, reason string) error {
	status, err := at.Status(ctx, at.lane, at.environment, "none")
	if err != nil {
		return err
	}
	if status.Fleet == nil {
		return usage("-gone: %s has one target, and no list", at.environment)
	}
	done := []*api.SetAside{}
	for _, target := range status.Fleet.Gone {
		a, err := at.SetAside(ctx, at.lane, lane.PlaceName(at.environment, target), reason)
		if err != nil {
			return err
		}
		done = append(done, a)
	}
	return e.print(done, func() {
		if len(done) == 0 {
			fmt.Fprintf(e.out, "%s/%s: no target with a history has lost its line\n", at.lane, at.environment)
			return
		}
		fmt.Fprintf(e.out, "%s of %s/%s, whose %s gone, set aside: %s\n", plural.Count(len(done), "target", "targets"), at.lane,
			at.environment, plural.Word(len(done), "line is", "lines are"), gate.Some(status.Fleet.Gone))
	})
}

// printFleet shows which targets of a fleet agree, and names the odd ones.
func printFleet(e *env, s *api.EnvironmentStatus) {
	f := s.Fleet
	facts := []string{plural.Of(f.Targets, "target")}
	if n := len(f.Groups); n > 1 {
		odd := f.Targets - len(f.Aside) - len(f.Groups[0].Targets)
		facts = append(facts, fmt.Sprintf("%d agree", len(f.Groups[0].Targets)), plural.Count(odd, "is odd", "are odd"))
	} else if n == 1 {
		facts = append(facts, "all agree")
	}
	if len(f.Aside) > 0 {
		facts = append(facts, fmt.Sprintf("%d set aside", len(f.Aside)))
	}
	fmt.Fprintln(e.out, strings.Join(facts, " · "))
	if last := newestOf(f); last != nil {
		paused := ""
		if last.Paused != "" && last.Outcome == deploy.Running {
			paused = ", paused by " + last.Paused
		}
		fmt.Fprintf(e.out, "last deployment: F%d %s %s%s, %s · %s\n", last.ID, last.Direction,
			outcomePaint(e.paint, last.Outcome)(string(last.Outcome)), paused, ago(last.StartedAt), countWords(last.Counts))
	}
	t := table{heads: []string{"TARGETS", "AT", "PENDING", "GATE", "STATE", "WHICH"}}
	for _, g := range f.Groups {
		one := api.EnvironmentStatus{At: g.At, AtSlug: g.AtSlug, Pending: g.Pending, Reached: g.Reached, Trouble: g.Trouble}
		t.add(plain(fmt.Sprint(len(g.Targets))), plain(standsAt(one)), plain(pending(one)), plain(g.Gate), stateCell(e.paint, one),
			plain(gate.Some(g.Targets)))
	}
	t.print(e.out, e.paint)
	for _, a := range f.Aside {
		fmt.Fprintf(e.out, "%s is set aside by %s since %s: %s\n", a.Target, a.By, moment(a.At), a.Reason)
	}
}

// newestOf is the deployment to a fleet that is under way, or else the last one; nil for none.
func newestOf(f *api.FleetStatus) *api.FleetDeployment {
	if f.Running != nil {
		return f.Running
	}
	return f.Last
}
