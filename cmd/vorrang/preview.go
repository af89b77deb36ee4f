package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"vorrang/client"
	"vorrang/core/gate"
	lanes "vorrang/core/lane"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

func previewCommand() command {
	return command{
		verb: "preview", does: "shows the SQL that would run",
		explain: "With -to, of a promotion; with -env and one of -last, -back-to, -deployment and -back-release, of a " +
			"rollback. Nothing is run.\n" +
			"The last line is the plan's digest: promote and rollback take it as -shown, and refuse any other plan.\n" +
			"-standalone writes one file for psql instead: it takes the same lock, refuses if anything was deployed " +
			"since, and\n" +
			"writes the same ledger rows, so that Vorrang afterwards sees an ordinary deployment.",
		example: "vorrang preview -to production -release 2026.11 -standalone > deploy.sql\n" +
			"vorrang preview -to production -release 2026.11 -standalone -target all -folder for-the-dba\n" +
			"vorrang preview -to staging -through 7\nvorrang preview -env staging -last 1",
		setUp: func(e *env) func(context.Context, []string) error {
			e.laneFlag()
			to := e.flags.String("to", "", "the `environment` to promote to")
			through := e.flags.String("through", "", "the last `step` to apply")
			release := e.flags.String("release", "", "the `release` to apply; without it loose steps")
			environment := e.flags.String("env", "", "the `environment` to roll back")
			way := wayFlags(e, "back-to")
			standalone := e.flags.Bool(
				"standalone", false,
				"write one file that a DBA runs with psql -v file=FILE -f FILE",
			)
			target := e.flags.String("target", "", "one `target` of a fleet; all, with -standalone and -folder")
			folder := e.flags.String("folder", "", "with -target all: where a `folder` gets a file for each target")
			e.mode("to", []string{"through", "release"}, "standalone", "folder")
			e.mode("env", []string{"last", "back-to", "deployment", "back-release"}, "standalone", "folder")
			e.mode("standalone", []string{"folder"}, "through", "release", "last", "back-to", "deployment", "back-release")
			return func(ctx context.Context, args []string) error {
				if err := e.noArguments(args); err != nil {
					return err
				}
				if (*to == "") == (*environment == "") {
					return usage("say -to ENVIRONMENT for a promotion, or -env ENVIRONMENT for a rollback")
				}
				c := e.client()
				lane, err := e.whichLane(ctx, c)
				if err != nil {
					return err
				}
				if *to == "" {
					if err := way.check(); err != nil {
						return err
					}
				}
				read := func(ctx context.Context, at spot) (*api.Preview, error) {
					forward, back := at.Preview, at.PreviewBack
					if *standalone {
						forward, back = at.Standalone, at.StandaloneBack
					}
					if *to != "" {
						return forward(ctx, at.lane, at.environment, client.Promotion{Through: *through, Release: *release})
					}
					return back(ctx, at.lane, at.environment, way.way())
				}
				at := spot{Client: c, lane: lane, environment: *to + *environment}
				if *target == lanes.AllTargets {
					if !*standalone || *folder == "" {
						return usage("-target all writes files: add -standalone and -folder DIR")
					}
					return e.onEachTarget(ctx, at, func(ctx context.Context, at spot) error {
						return writeStandalone(ctx, e, at, *folder, read)
					})
				}
				at.environment = lanes.PlaceName(at.environment, *target)
				preview, err := read(ctx, at)
				if err != nil {
					return err
				}
				if *standalone {
					return e.print(preview, func() { fmt.Fprint(e.out, preview.Standalone) })
				}
				return e.print(preview, func() {
					printFleetPlans(e, preview.Fleet)
					printPreview(e, preview)
				})
			}
		},
	}
}

// writeStandalone writes the file for one target of a fleet, named after it.
func writeStandalone(
	ctx context.Context, e *env, at spot, folder string, read func(context.Context, spot) (*api.Preview, error),
) error {
	preview, err := read(ctx, at)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return err
	}
	name := filepath.Join(folder, at.lane+"."+at.environment+".sql")
	if err := os.WriteFile(name, []byte(preview.Standalone), 0o666); err != nil {
		return err
	}
	return e.print(map[string]string{"target": at.environment, "file": name}, func() { fmt.Fprintln(e.out, name) })
}

// printFleetPlans says which targets of a fleet have which plan, as comments. The first is shown.
func printFleetPlans(e *env, plans []api.FleetPlan) {
	for i, p := range plans {
		what := plural.Of(p.Steps, "step") + ", this plan"
		switch {
		case p.Message != "":
			what = p.Message
		case p.Steps == 0:
			what = "nothing to do"
		case i > 0:
			what = fmt.Sprintf("%s, another plan: -target %s shows it", plural.Of(p.Steps, "step"), p.Targets[0])
		}
		which := fmt.Sprintf("-- %s (%s): %s", plural.Of(len(p.Targets), "target"), gate.Some(p.Targets), what)
		fmt.Fprintln(e.out, e.paint.strong(which))
	}
}

// printPreview writes SQL that can be read on its own: all else is comments.
func printPreview(e *env, preview *api.Preview) {
	if len(preview.Actions) == 0 {
		fmt.Fprintln(e.out, e.paint.dim("-- nothing to do"))
	}
	for _, o := range preview.Overlaps {
		fmt.Fprintln(e.out, e.paint.warn("-- two versions: "+o.Message))
	}
	for i, action := range preview.Actions {
		head := fmt.Sprintf(
			"-- %d of %d: step %s, %s (%s), mode %s",
			i+1, len(preview.Actions), action.Number, action.Direction, action.File, action.Mode,
		)
		if action.Phase != "" {
			head += ", phase " + string(action.Phase)
		}
		if action.Resume > 0 {
			head += fmt.Sprintf(", goes on at statement %d", action.Resume)
		}
		fmt.Fprintln(e.out, e.paint.strong(head))
		fmt.Fprintln(e.out, strings.TrimRight(action.SQL, "\n"))
		printLosses(e, action)
		printFindings(e, action)
		if action.Check != "" {
			fmt.Fprintln(e.out, e.paint.dim("-- its check:"))
			fmt.Fprintln(e.out, strings.TrimRight(action.Check, "\n"))
		}
		fmt.Fprintln(e.out)
	}
	if n := len(preview.Actions); n > 0 {
		fmt.Fprintln(
			e.out,
			e.paint.dim(fmt.Sprintf("-- this plan, and no other: -shown %.12s", preview.Actions[n-1].Plan)),
		)
	}
	if preview.Held {
		fmt.Fprintln(e.errs, e.paint.bad("The gate is held:"))
		printChecks(e.errs, e.paint, preview.Gate, true)
	}
}

// printLosses warns of what cannot be had back.
func printLosses(e *env, action api.PreviewAction) {
	if action.Irreversible {
		fmt.Fprintln(e.out, e.paint.warn("-- ! this step has no way back"))
	}
	for _, loss := range action.Losses {
		fmt.Fprintln(
			e.out,
			e.paint.warn(fmt.Sprintf("-- ! line %d %s: what is there then is lost", loss.Line, loss.What)),
		)
	}
	for _, loss := range action.LostBefore {
		fmt.Fprintln(
			e.out,
			e.paint.warn(
				fmt.Sprintf(
					"-- ! line %d of the step itself %s; this does not bring back what was there",
					loss.Line, loss.What,
				),
			),
		)
	}
}

// printFindings lists what a review found in a step, without what printLosses says.
func printFindings(e *env, action api.PreviewAction) {
	paint := severityPaint(e.paint)
	for _, f := range action.Findings {
		if f.Code == "back.missing" {
			continue
		}
		place := fmt.Sprintf("line %d", f.Line)
		if f.File != action.File {
			place = fmt.Sprintf("%s, line %d", f.File, f.Line)
		}
		line := fmt.Sprintf("-- ! %s %s, %s: %s", f.Severity, f.Code, place, f.Message)
		if f.Accepted != "" {
			line = fmt.Sprintf("--   %s %s, %s, accepted: %s", f.Severity, f.Code, place, f.Accepted)
		}
		fmt.Fprintln(e.out, paint[f.Severity](line))
		if f.Accepted == "" && f.Rewrite != "" {
			fmt.Fprintln(e.out, e.paint.dim("--   instead:\n--     "+strings.ReplaceAll(f.Rewrite, "\n", "\n--     ")))
		}
	}
}
