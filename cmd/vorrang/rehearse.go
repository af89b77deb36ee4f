package main

import (
	"cmp"
	"context"
	"fmt"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/rehearsal"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

func rehearseCommand() command {
	return command{
		verb: "rehearse", does: "tries what a promotion would apply on a copy of the target: forward, back, and " +
			"forward again",
		explain: "The copy is a scratch database with the target's schema, and with -rows N up to N rows of each table, " +
			"those that\n" +
			"foreign keys need, and those with the lowest and highest values of keys and constraints. Where the " +
			"environment has\n" +
			"rehearse-on, the copy is one of that clone, with all rows. The target is only read. After each step the " +
			"schema, and\n" +
			"after each way back the rows, are compared: one that does not leave what was there before is called incomplete.\n" +
			"What came of it is kept, and is what `rehearsal: required` in an environment's gate asks for, until the " +
			"steps or the\n" +
			"target's schema change. It goes on without the client. Exit code 0 if it passed, 3 otherwise.",
		example: "vorrang rehearse -to staging\nvorrang rehearse -to production -release 2026.11 -rows 1000\n" +
			"vorrang rehearse -to production -list",
		setUp: func(e *env) func(context.Context, []string) error {
			var asked client.Rehearsal
			e.flags.StringVar(&asked.Release, "release", "", "this `release`; loose steps without it")
			e.flags.StringVar(&asked.Through, "through", "", "no further than this `step`")
			e.flags.IntVar(&asked.Rows, "rows", 0, "copy `N` rows of each table, and those that belong to them")
			list := e.flags.Bool("list", false, "list the newest rehearsals")
			query := client.ListQuery{Limit: 20}
			e.flags.Int64Var(&query.Before, "before", 0, "with -list, only those before this `number`")
			e.flags.StringVar(&query.Search, "search", "", "with -list, only those in whose release, actor, result or message this `text` stands")
			id := e.flags.Int64("id", 0, "show the rehearsal with this `number`; one that runs is watched")
			cancel := e.flags.Int64("cancel", 0, "cancel the rehearsal with this `number`")
			e.mode("list", []string{"before", "search"})
			e.mode("id", nil)
			e.mode("cancel", nil)
			return e.onEnvironment(toFlag, func(ctx context.Context, at spot) error {
				switch {
				case asked.Rows < 0:
					return usage("-rows is a number of rows, such as 1000")
				case *list:
					return listRehearsals(ctx, e, at, query)
				case *cancel != 0:
					answer, err := at.CancelRehearsal(ctx, at.lane, at.environment, *cancel)
					if err != nil {
						return err
					}
					return e.print(answer, func() { fmt.Fprintf(e.out, "rehearsal %d is being cancelled\n", answer.ID) })
				}
				var begun *api.Rehearsed
				var err error
				if *id != 0 {
					begun, err = at.Rehearsal(ctx, at.lane, at.environment, *id)
				} else {
					begun, err = at.BeginRehearsal(ctx, at.lane, at.environment, asked)
				}
				if err != nil {
					return err
				}
				return watchRehearsal(ctx, e, at.Client, begun)
			})
		},
	}
}

// watchRehearsal shows a rehearsal to its end, and what came of it.
func watchRehearsal(ctx context.Context, e *env, c *client.Client, begun *api.Rehearsed) error {
	l := &live{
		e:        e,
		d:        &api.Deployment{Lane: begun.Lane, Environment: begun.Environment},
		width:    40,
		terminal: isTerminal(e.out),
		most:     mostEffect,
	}
	hear := func(event deploy.Event) {
		if !*e.json && event.Kind != deploy.Ended {
			l.hear(event)
		}
	}
	if !*e.json && begun.State == rehearsal.Running {
		fmt.Fprintf(e.out, "rehearsing on a copy of %s/%s, rehearsal %d\n", begun.Lane, begun.Environment, begun.ID)
	}
	err := c.FollowRehearsal(ctx, begun, hear)
	l.stop()
	if ctx.Err() != nil {
		return fmt.Errorf("the rehearsal goes on; vorrang rehearse -lane %s -to %s -id %d shows it, and with -cancel in "+
			"place of -id it is cancelled",
			begun.Lane, begun.Environment, begun.ID)
	}
	if err != nil {
		return err
	}
	answer, err := c.Rehearsal(ctx, begun.Lane, begun.Environment, begun.ID)
	if err != nil {
		return err
	}
	if err := e.print(answer, func() { printRehearsal(e, answer) }); err != nil {
		return err
	}
	if !answer.Result.Passed {
		return &codedError{exitHeld, ""}
	}
	return nil
}

func listRehearsals(ctx context.Context, e *env, at spot, query client.ListQuery) error {
	answer, err := at.Rehearsals(ctx, at.lane, at.environment, query)
	if err != nil {
		return err
	}
	return e.print(answer, func() {
		t := table{heads: []string{"", "BEGAN", "RELEASE", "BY", "ROWS", "RESULT"}}
		for _, one := range answer.Rehearsals {
			paint := e.paint.dim
			switch word := rehearsalWord(one); word {
			case "passed":
				paint = e.paint.good
			case "did not pass", "broken off":
				paint = e.paint.bad
			}
			rows := ""
			if one.Rows > 0 {
				rows = fmt.Sprintf("%d a table", one.Rows)
			}
			t.add(
				plain(fmt.Sprint(one.ID)),
				plain(moment(one.At)),
				plain(cmp.Or(one.Release, "loose steps")),
				plain(one.Actor),
				plain(rows),
				cell{rehearsalWord(one), paint},
			)
		}
		if len(answer.Rehearsals) == 0 && (query.Before > 0 || query.Search != "") {
			fmt.Fprintln(e.out, "there is no such rehearsal")
			return
		}
		if len(answer.Rehearsals) == 0 {
			fmt.Fprintf(e.out, "nothing was rehearsed on a copy of %s/%s yet\n", at.lane, at.environment)
			return
		}
		t.print(e.out, e.paint)
		e.older(answer.Next)
	})
}

// rehearsalWord is what became of a rehearsal.
func rehearsalWord(a api.Rehearsed) string {
	switch {
	case a.State != rehearsal.Ended:
		return string(a.State)
	case a.Result.Passed:
		return "passed"
	}
	return "did not pass"
}

func printRehearsal(e *env, a *api.Rehearsed) {
	r := a.Result
	if a.State != rehearsal.Ended {
		fmt.Fprintf(
			e.out,
			"%s on %s/%s: %s\n",
			e.paint.bad(fmt.Sprintf("rehearsal %d is %s", a.ID, a.State)),
			a.Lane,
			a.Environment,
			a.Message,
		)
		return
	}
	word := e.paint.good("the rehearsal passed")
	if !r.Passed {
		word = e.paint.bad("the rehearsal did not pass")
	}
	fmt.Fprintf(
		e.out,
		"%s: %s on a copy of %s/%s, with %s\n",
		word,
		plural.Of(len(r.Steps), "step"),
		a.Lane,
		a.Environment,
		a.With,
	)
	if r.Why != "" {
		fmt.Fprintln(e.out, "  "+r.Why)
	}
	t := table{heads: []string{"STEP", "FORWARD", "WAY BACK", "TOOK", "AGAIN"}}
	for _, s := range r.Steps {
		paint := map[rehearsal.WayBack]func(string) string{
			rehearsal.Complete: e.paint.good, rehearsal.Missing: e.paint.warn,
			rehearsal.Incomplete: e.paint.bad, rehearsal.Failed: e.paint.bad,
		}[s.WayBack]
		t.add(plain(stepName(s.Number, s.Slug)), plain(tookOrNot(s.ForwardMS)), cell{string(s.WayBack), paint},
			cell{tookOrNot(s.BackMS), e.paint.dim}, plain(tookOrNot(s.AgainMS)))
	}
	t.print(e.out, e.paint)
	for _, line := range a.Surroundings {
		fmt.Fprintln(e.out, "  "+e.paint.warn(line))
	}
	for _, s := range r.Steps {
		if len(s.Differences) > 0 {
			fmt.Fprintf(e.out, "the way back of step %s leaves, against what was there before:\n", s.Number)
			printDifferences(e, "  ", s.Differences, mostLines)
		}
	}
	for _, s := range r.Steps {
		for _, d := range s.Rows {
			fmt.Fprintf(e.out, "the way back of step %s leaves other rows: %s\n", s.Number, e.paint.bad(d.Message))
		}
	}
	if len(r.Differences) > 0 {
		fmt.Fprintln(e.out, "the second time forward, against the first:")
		printDifferences(e, "  ", r.Differences, mostLines)
	}
	if r.Failure != nil && r.Failure.Line > 0 {
		fmt.Fprintf(e.out, "%s:%d: %s\n", r.Failure.File, r.Failure.Line, e.paint.bad(r.Failure.Message))
	}
	fmt.Fprintln(e.out, e.paint.dim(a.WaysBack))
}

func tookOrNot(ms int64) string {
	if ms == 0 {
		return ""
	}
	return took(ms)
}
