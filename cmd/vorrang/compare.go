package main

import (
	"context"
	"fmt"
	"strings"

	"vorrang/core/schema"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

func compareCommand() command {
	return command{
		verb: "compare", does: "says how the schemas of two environments differ, or of one and a release or an earlier state",
		explain: "Reads the catalogs only. A release is built in a scratch database, on the server of a disposable " +
			"environment, and\n" +
			"dropped again. Owners and grants are left out unless -owners is given. Exit code 0 if nothing differs, 3 " +
			"otherwise.",
		example: "vorrang compare -from staging -with production\nvorrang compare -from production -release 2026.11\n" +
			"vorrang compare -from production -deployment 12",
		setUp: func(e *env) func(context.Context, []string) error {
			from := e.flags.String("from", "", "the `environment`")
			with := e.flags.String("with", "", "the other `environment`")
			release := e.flags.String("release", "", "or the `release`")
			deployment := e.flags.Int64("deployment", 0, "or what this `deployment` left")
			owners := e.flags.Bool("owners", false, "compare owners and grants too")
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if err := e.noArguments(args); err != nil {
					return err
				}
				given := 0
				for _, is := range []bool{*with != "", *release != "", *deployment != 0} {
					if is {
						given++
					}
				}
				if *from == "" || given != 1 {
					return usage(
						"say -from ENVIRONMENT, and one of -with ENVIRONMENT, -release RELEASE and -deployment DEPLOYMENT",
					)
				}
				var answer *api.Comparison
				var err error
				switch {
				case *deployment != 0:
					answer, err = at.CompareDeployment(ctx, at.lane, *from, *deployment, *owners)
				case *with != "":
					answer, err = at.Compare(ctx, at.lane, *from, *with, *owners)
				default:
					answer, err = at.CompareRelease(ctx, at.lane, *from, *release, *owners)
				}
				if err != nil {
					return err
				}
				if err := e.print(answer, func() { printComparison(e, answer) }); err != nil {
					return err
				}
				if !answer.Same {
					return &codedError{exitHeld, ""}
				}
				return nil
			})
		},
	}
}

func printComparison(e *env, c *api.Comparison) {
	if c.Same {
		fmt.Fprintf(
			e.out,
			"%s: %s and %s have the same schema, of %s\n",
			e.paint.good("no difference"),
			c.From, c.With,
			plural.Of(c.FromObjects, "object"),
		)
	} else {
		fmt.Fprintf(e.out, "%s and %s differ in %s\n", c.From, c.With, e.paint.bad(plural.Of(len(c.Differences), "object")))
	}
	for _, d := range c.Differences {
		switch d.What {
		case schema.Added:
			fmt.Fprintf(e.out, "  %s %s %s\n", e.paint.good("only in "+c.From+":"), d.Kind, d.Name)
		case schema.Removed:
			fmt.Fprintf(e.out, "  %s %s %s\n", e.paint.bad("only in "+c.With+":"), d.Kind, d.Name)
		case schema.Changed:
			fmt.Fprintf(e.out, "  %s %s %s\n", e.paint.warn("differs:"), d.Kind, d.Name)
			for _, p := range d.Props {
				fmt.Fprintf(
					e.out,
					"    %s: %s in %s, %s in %s\n",
					p.Name, orNone(p.After), c.From, orNone(p.Before), c.With,
				)
			}
		}
	}
	for _, table := range c.Reordered {
		fmt.Fprintln(e.out, e.paint.dim("the columns of "+table+" are in another order"))
	}
	printUncovered(e, c.From, c.FromUncovered)
	printUncovered(e, c.With, c.WithUncovered)
	if !c.Owners {
		fmt.Fprintln(e.out, e.paint.dim("owners and grants were left out; -owners compares them too"))
	}
}

func printUncovered(e *env, where string, list []schema.Uncovered) {
	for _, u := range list {
		fmt.Fprintln(
			e.out,
			e.paint.warn(
				fmt.Sprintf(
					"not compared in %s: %s (%s)",
					where, plural.Of(u.Count, u.What),
					strings.Join(u.Names, ", "),
				),
			),
		)
	}
}

func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}
