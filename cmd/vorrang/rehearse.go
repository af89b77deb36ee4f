package main

import (
	"context"
	"fmt"

	"vorrang/core/rehearsal"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

func rehearseCommand() command {
	return command{
		verb: "rehearse", does: "tries what a promotion would apply on a copy of the target: forward, back, and forward again",
		explain: "The copy is a scratch database with the target's schema and without its rows; the target is only read. After each\n" +
			"step the schema is compared: a way back that does not leave what was there before is called incomplete. What came\n" +
			"of it is kept, and is what `rehearsal: required` in an environment's gate asks for, until the steps or the target's\n" +
			"schema change. Exit code 0 if it passed, 3 otherwise.",
		example: "vorrang rehearse -to staging\nvorrang rehearse -to production -release 2026.11",
		setUp: func(e *env) func(context.Context, []string) error {
			to := e.flags.String("to", "", "the `environment`")
			release := e.flags.String("release", "", "this `release`; loose steps without it")
			through := e.flags.String("through", "", "no further than this `step`")
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if err := noArguments(args); err != nil {
					return err
				}
				if *to == "" {
					return usage("say -to ENVIRONMENT")
				}
				answer, err := at.Rehearse(ctx, at.lane, *to, *release, *through)
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
			})
		},
	}
}

func printRehearsal(e *env, a *api.Rehearsed) {
	r := a.Result
	word := e.paint.good("the rehearsal passed")
	if !r.Passed {
		word = e.paint.bad("the rehearsal did not pass")
	}
	fmt.Fprintf(
		e.out,
		"%s: %s on a copy of %s/%s, without rows\n",
		word,
		plural.Of(len(r.Steps), "step"),
		a.Lane, a.Environment,
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
	for _, s := range r.Steps {
		if len(s.Differences) > 0 {
			fmt.Fprintf(e.out, "the way back of step %s leaves, against what was there before:\n", s.Number)
			printDifferences(e, "  ", s.Differences, mostLines)
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
