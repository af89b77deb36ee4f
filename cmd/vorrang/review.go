package main

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"vorrang/core/review"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

func reviewCommand() command {
	return command{
		verb: "review", takes: "[CODE]", does: "says what a reviewer should know of the steps in the folder, before they " +
			"are submitted",
		explain: "Of the steps that are new or edited, by their text alone; with -env, of those that the environment has " +
			"not, against\n" +
			"its schema and the sizes of its tables; with -all, of all. Nothing is sent to the catalogue, and " +
			"nothing is run.\n" +
			"Each finding has a code; `accept:` in the step's options takes it with a reason, and `findings:` in a gate says\n" +
			"from which severity on one that is not accepted holds. With a CODE, what it is, with an example. Exit code " +
			"3 where a\n" +
			"finding as severe as -least, or more, is not accepted.",
		example: "vorrang review\nvorrang review -env production -least medium -sarif findings.sarif\n" +
			"vorrang review blocks.index-build",
		setUp: func(e *env) func(context.Context, []string) error {
			dir := e.flags.String("dir", "steps", "the step `folder`")
			environment := e.flags.String("env", "", "against the schema of this `environment`, with its sizes")
			all := e.flags.Bool("all", false, "all steps of the folder")
			least := e.flags.String(
				"least",
				string(review.High),
				"the `severity` from which on the exit code is 3: high, medium or low",
			)
			sarif := e.flags.String("sarif", "", "write the findings as SARIF 2.1.0 to a `file`")
			junit := e.flags.String("junit", "", "write the findings as JUnit XML to a `file`")
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if len(args) == 1 {
					return explainFinding(ctx, e, at, args[0])
				}
				if err := e.noArguments(args); err != nil {
					return err
				}
				severity := review.Severity(*least)
				if !slices.Contains(review.Severities, severity) {
					return usage("-least is high, medium or low, not %q", *least)
				}
				folder, err := stepsFolder(*dir)
				if err != nil {
					return err
				}
				answer, err := at.Review(ctx, at.lane, *environment, *all, inside(folder))
				if err != nil {
					return err
				}
				if *sarif != "" {
					if err := writeSARIF(*sarif, folder, answer); err != nil {
						return err
					}
				}
				if *junit != "" {
					if err := writeFindingsJUnit(*junit, at.lane, severity, answer); err != nil {
						return err
					}
				}
				err = e.print(answer, func() { printReview(e, at.lane, folder, answer) })
				if err == nil && len(review.Open(answer.Findings, severity)) > 0 {
					return &codedError{exitHeld, ""}
				}
				return err
			})
		},
	}
}

func printReview(e *env, lane, folder string, a *api.Reviewed) {
	against := "by their text alone"
	if a.Environment != "" {
		against = "against the schema of " + a.Environment
	}
	switch {
	case a.Steps == 0 && a.Environment != "":
		fmt.Fprintf(
			e.out,
			"%s: %s has all %s of the folder; -all reviews them\n",
			lane,
			a.Environment,
			plural.Of(a.Folder, "step"),
		)
		return
	case a.Steps == 0:
		fmt.Fprintf(
			e.out,
			"%s: none of the %s in the folder is new or edited; -all reviews them\n",
			lane,
			plural.Of(a.Folder, "step"),
		)
		return
	}
	explained := map[string]bool{}
	for _, f := range a.Findings {
		printFinding(e, folder, f, !explained[f.Code])
		explained[f.Code] = true
	}
	for _, note := range a.Notes {
		fmt.Fprintf(e.out, "%s %s\n", e.paint.warn("note:"), note.Text())
	}
	fmt.Fprintf(
		e.out,
		"%s: %s reviewed %s: %s\n",
		lane,
		plural.Of(a.Steps, "step"),
		against,
		e.paint.strong(counted(a.Findings)),
	)
	printOverlaps(e, a.Overlaps)
	if a.Environment != "" && !a.Rows {
		fmt.Fprintf(
			e.out,
			"%s whether rows of %s stand in the way was not asked: the engine does not answer, or you are no releaser, "+
				"approver or keeper there\n",
			e.paint.warn("note:"),
			a.Environment,
		)
	}
	if len(a.Findings) > 0 {
		fmt.Fprintln(
			e.out,
			e.paint.dim(
				"vorrang review CODE explains a finding with an example; accept: {CODE: reason} in a step's options accepts it",
			),
		)
	}
}

// printFinding shows a finding at its line; with what it means the first time.
func printFinding(e *env, folder string, f review.Finding, explain bool) {
	word := severityPaint(e.paint)[f.Severity](string(f.Severity))
	if f.Accepted != "" {
		word = e.paint.good("accepted") + " " + string(f.Severity)
	}
	fmt.Fprintf(e.out, "%s:%d:%d  %s  %s\n", path.Join(folder, f.File), f.Line, f.Column, word, e.paint.strong(f.Code))
	fmt.Fprintf(e.out, "  %s\n", f.Message)
	for line := range strings.Lines(step.Excerpt(f.Line, f.Source, f.Caret)) {
		fmt.Fprint(e.out, e.paint.dim("  "+line))
	}
	if f.Accepted != "" {
		fmt.Fprintf(e.out, "  accepted in the step: %s\n\n", f.Accepted)
		return
	}
	if explain {
		fmt.Fprintf(e.out, "  %s\n", f.Why)
	}
	if f.Rewrite != "" {
		fmt.Fprintln(e.out, "  Instead:")
		for line := range strings.SplitSeq(f.Rewrite, "\n") {
			fmt.Fprintf(e.out, "    %s\n", line)
		}
	}
	fmt.Fprintln(e.out)
}

func severityPaint(p paint) map[review.Severity]func(string) string {
	return map[review.Severity]func(string) string{review.High: p.bad, review.Medium: p.warn, review.Low: p.dim}
}

// counted says how many findings there are of each severity.
func counted(list []review.Finding) string {
	if len(list) == 0 {
		return "no findings"
	}
	var parts []string
	counts := review.Count(list)
	for _, severity := range review.Severities {
		if n := counts.Open[severity]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, severity))
		}
	}
	if counts.Accepted > 0 {
		parts = append(parts, fmt.Sprintf("%d accepted", counts.Accepted))
	}
	return plural.Of(len(list), "finding") + ": " + strings.Join(parts, ", ")
}

// explainFinding shows what a code means, with its examples.
func explainFinding(ctx context.Context, e *env, at spot, code string) error {
	lane, err := at.Lane(ctx, at.lane)
	if err != nil {
		return err
	}
	rules, err := at.Findings(ctx, lane.Engine)
	if err != nil {
		return err
	}
	var codes []string
	for _, rule := range rules.Rules {
		if rule.Code == code {
			return e.print(rule, func() { printRule(e, rule) })
		}
		codes = append(codes, rule.Code)
	}
	return usage("there is no finding %q; there are:\n  %s", code, strings.Join(codes, "\n  "))
}

func printRule(e *env, rule review.Rule) {
	fmt.Fprintf(
		e.out, "%s  %s\n%s\n\n%s\n%s\n", e.paint.strong(rule.Code), rule.Severity, rule.Title, rule.Why, rule.Server,
	)
	if rule.Target {
		fmt.Fprintln(e.out, "It is found only against an environment: -env.")
	}
	for _, example := range []struct{ head, text string }{
		{"This has it", rule.Has}, {"with the way back", rule.Back}, {"This has it not", rule.HasNot},
		{"with the way back", rule.BackNot},
	} {
		if example.text == "" {
			continue
		}
		fmt.Fprintf(e.out, "\n%s:\n", example.head)
		for line := range strings.SplitSeq(strings.TrimSpace(example.text), "\n") {
			fmt.Fprintf(e.out, "    %s\n", line)
		}
	}
}

// writeFindingsJUnit writes a case for each finding; one that is open and severe enough
// fails.
func writeFindingsJUnit(file, lane string, least review.Severity, a *api.Reviewed) error {
	suite := junitSuite{Name: lane + "/review"}
	open := review.Open(a.Findings, least)
	for _, f := range a.Findings {
		test := junitCase{Class: suite.Name, Name: fmt.Sprintf("%s %s:%d:%d", f.Code, f.File, f.Line, f.Column)}
		if slices.Contains(open, f) {
			test.Failure = &junitBad{
				Message: f.Message,
				Text:    strings.TrimSpace(f.Text() + "\n" + f.Why + "\n" + f.Rewrite),
			}
			suite.Failures++
		}
		suite.Cases = append(suite.Cases, test)
	}
	if len(suite.Cases) == 0 {
		suite.Cases = append(suite.Cases, junitCase{Class: suite.Name, Name: "no findings"})
	}
	suite.Tests = len(suite.Cases)
	return writeXML(file, junitSuites{Suites: []junitSuite{suite}})
}
