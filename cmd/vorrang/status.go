package main

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/sqltext"
	"vorrang/internal/advice"
	"vorrang/service/api"
)

func statusCommand() command {
	return command{
		verb: "status", does: "says where each environment stands: at, pending, and everything that is wrong",
		explain: "Exit code 0 if nothing is wrong, 3 if something holds, 5 if a step is in doubt.",
		example: "vorrang status\nvorrang status -env production -all",
		setUp: func(e *env) func(context.Context, []string) error {
			e.laneFlag()
			environment := e.flags.String("env", "", "one `environment`, with its steps")
			placed := e.targetFlag("with -env: one `target` of a fleet")
			all := e.flags.Bool("all", false, "with -env: all steps, not only those that wait or have trouble")
			e.mode("env", []string{"all"})
			return func(ctx context.Context, args []string) error {
				if err := e.noArguments(args); err != nil {
					return err
				}
				place, err := placed(*environment)
				if err != nil {
					return err
				}
				if place != "" {
					return oneStatus(ctx, e, place, *all)
				}
				return allStatus(ctx, e)
			}
		},
	}
}

func allStatus(ctx context.Context, e *env) error {
	lanes, err := lanesOf(ctx, e)
	if err != nil {
		return err
	}
	var environments []api.EnvironmentStatus
	for _, l := range lanes.Lanes {
		environments = append(environments, l.Environments...)
	}
	err = e.print(lanes, func() {
		if len(lanes.Lanes) == 0 {
			printLanes(e, lanes)
			return
		}
		t := table{heads: []string{"LANE", "ENVIRONMENT", "AT", "PENDING", "LAST DEPLOYMENT", "STATE"}}
		for _, environment := range environments {
			name := environment.Environment
			if environment.Fleet != nil {
				name += fmt.Sprintf(" (%d)", environment.Fleet.Targets)
			}
			t.add(plain(environment.Lane), cell{name, e.paint.strong}, plain(standsAt(environment)),
				plain(pending(environment)), plain(lastDeployment(environment)), stateCell(e.paint, environment))
		}
		t.print(e.out, e.paint)
		for _, environment := range environments {
			printTrouble(e, environment, true)
		}
	})
	if err != nil {
		return err
	}
	return statusExit(environments...)
}

// lanesOf asks about one lane where -lane names it, and about all otherwise.
func lanesOf(ctx context.Context, e *env) (*api.Lanes, error) {
	if *e.lane == "" {
		return e.client().Lanes(ctx)
	}
	one, err := e.client().Lane(ctx, *e.lane)
	if err != nil {
		return nil, err
	}
	return &api.Lanes{Lanes: []api.LaneStatus{*one}}, nil
}

// statusExit tells a script whether anything is wrong.
func statusExit(environments ...api.EnvironmentStatus) error {
	code := exitDone
	for _, environment := range environments {
		for _, trouble := range environment.Trouble {
			code = max(code, exitHeld)
			if trouble.Kind == string(gate.NothingInDoubt) {
				code = exitInDoubt
			}
		}
	}
	if code == exitDone {
		return nil
	}
	return &codedError{code, ""}
}

func standsAt(s api.EnvironmentStatus) string {
	switch {
	case !s.Reached:
		return "?"
	case s.At == "":
		return "nothing applied"
	case s.AtSlug == "":
		return string(s.At)
	}
	return fmt.Sprintf("%s %s", s.At, s.AtSlug)
}

func pending(s api.EnvironmentStatus) string {
	if !s.Reached {
		return "?"
	}
	return fmt.Sprint(s.Pending)
}

func lastDeployment(s api.EnvironmentStatus) string {
	if s.Fleet != nil {
		f := newestOf(s.Fleet)
		if f == nil {
			return "none"
		}
		return fmt.Sprintf("F%d %s %s, %s", f.ID, f.Direction, f.Outcome, ago(f.StartedAt))
	}
	d := s.Running
	if d == nil {
		d = s.Last
	}
	if d == nil {
		return "none"
	}
	return fmt.Sprintf("%d %s %s, %s", d.ID, d.Direction, d.Outcome, ago(d.StartedAt))
}

func ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return moment(t)[:10]
}

func stateCell(p paint, s api.EnvironmentStatus) cell {
	switch {
	case len(s.Trouble) > 0:
		var kinds []string
		for _, trouble := range s.Trouble {
			if !slices.Contains(kinds, trouble.Kind) {
				kinds = append(kinds, trouble.Kind)
			}
		}
		return cell{"TROUBLE: " + strings.Join(kinds, ", "), p.bad}
	case s.Running != nil, s.Fleet != nil && s.Fleet.Running != nil:
		return cell{"deploying", p.warn}
	case s.Pending > 0:
		return cell{"pending", p.warn}
	}
	return cell{"in order", p.good}
}

func printTrouble(e *env, s api.EnvironmentStatus, withName bool) {
	for _, trouble := range s.Trouble {
		place := ""
		if withName {
			place = s.Lane + "/" + s.Environment + ": "
		}
		fmt.Fprintf(
			e.out,
			"\n%s%s\n  → %s\n",
			e.paint.bad(place), trouble.Message, e.paint.strong(advice.Text(trouble.Remedies)),
		)
	}
}

func oneStatus(ctx context.Context, e *env, environment string, all bool) error {
	c := e.client()
	lane, err := e.whichLane(ctx, c)
	if err != nil {
		return err
	}
	which := "open"
	if all {
		which = "all"
	}
	s, err := c.Status(ctx, lane, environment, which)
	if err != nil {
		return err
	}
	if err := e.print(s, func() { printStatus(e, s) }); err != nil {
		return err
	}
	return statusExit(*s)
}

func printStatus(e *env, s *api.EnvironmentStatus) {
	state := stateCell(e.paint, *s)
	fmt.Fprintf(e.out, "%s/%s  %s\n", s.Lane, s.Environment, state.paint(state.text))
	printTrouble(e, *s, false)
	if len(s.Trouble) > 0 {
		fmt.Fprintln(e.out)
	}
	if s.Fleet != nil {
		printFleet(e, s)
		return
	}
	if !s.Reached {
		return
	}
	facts := []string{"at " + standsAt(*s), fmt.Sprintf("%d applied", s.Applied)}
	if s.Baseline != "" {
		facts = append(facts, fmt.Sprintf("%d covered by the baseline %s", s.Covered, s.Baseline))
	}
	facts = append(facts, fmt.Sprintf("%d pending", s.Pending))
	if s.NotHere > 0 {
		facts = append(facts, fmt.Sprintf("%d not here", s.NotHere))
	}
	fmt.Fprintf(e.out, "%s · last deployment: %s\n", strings.Join(facts, " · "), lastDeployment(*s))
	if len(s.Steps) == 0 {
		return
	}
	t := table{heads: []string{"STEP", "SLUG", "STATE", "FLAGS", "MODE", "WAY BACK", "AT (UTC)", "BY"}}
	for _, step := range s.Steps {
		t.add(stepCells(e.paint, step)...)
	}
	t.print(e.out, e.paint)
	for _, step := range s.Steps {
		if step.Difference != nil {
			printDifference(e, step)
		}
	}
}

// changeWords says what an edit amounts to.
func changeWords(change sqltext.Change) string {
	switch change {
	case sqltext.OnlySpace:
		return "only white space differs"
	case sqltext.OnlyComments:
		return "only comments and white space differ"
	case sqltext.WhatRuns:
		return "what it runs differs"
	case sqltext.Same:
	}
	return "nothing differs"
}

// printDifference writes the applied text against the new one, line by line.
func printDifference(e *env, s api.StepStatus) {
	fmt.Fprintf(
		e.out,
		"\nstep %s, applied text (-) against the catalogue's (+): %s\n",
		s.Number, e.paint.strong(changeWords(s.Difference.Change)),
	)
	last := 0
	for _, line := range s.Difference.Lines {
		at := max(line.Before, line.After)
		if last > 0 && at > last+1 && line.Op == "same" {
			fmt.Fprintln(e.out, e.paint.dim("        …"))
		}
		last = at
		switch line.Op {
		case "gone":
			fmt.Fprintln(e.out, e.paint.bad(fmt.Sprintf("%5d - %s", line.Before, line.Text)))
		case "new":
			fmt.Fprintln(e.out, e.paint.good(fmt.Sprintf("%5d + %s", line.After, line.Text)))
		default:
			fmt.Fprintln(e.out, e.paint.dim(fmt.Sprintf("%5d   %s", line.After, line.Text)))
		}
	}
	if s.Difference.Omitted != "" {
		fmt.Fprintln(e.out, e.paint.dim("        "+s.Difference.Omitted))
	}
}

func stepCells(p paint, s api.StepStatus) []cell {
	flags := make([]string, len(s.Flags))
	for i, flag := range s.Flags {
		flags[i] = string(flag)
	}
	state := cell{string(s.State), nil}
	switch s.State {
	case ledger.StatusFailed, ledger.StatusInDoubt:
		state.paint = p.bad
	case ledger.StatusPending, ledger.StatusRolledBack:
		state.paint = p.warn
	case ledger.StatusApplied, ledger.StatusCovered, ledger.StatusAttested:
		state.paint = p.good
	}
	back, at := "none", ""
	switch {
	case s.Back:
		back = "yes"
	case slices.Contains(s.Flags, plan.Absent):
		back = "" // the catalogue does not say
	}
	if s.At != nil {
		at = moment(*s.At)
	}
	flagPaint := p.bad
	if len(s.Flags) == 1 && s.Flags[0] == plan.NotHere {
		flagPaint, state.text = p.dim, "" // it does not wait for anything here
	}
	return []cell{plain(string(s.Number)), plain(s.Slug), state, {strings.Join(flags, ", "), flagPaint},
		plain(string(s.Mode)), plain(back), plain(at), plain(s.Actor)}
}
