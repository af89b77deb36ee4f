package main

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"vorrang/client"
	"vorrang/core/step"
	"vorrang/internal/advice"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

func submitCommand() command {
	return command{
		verb: "submit", does: "sends the step folder to the catalogue; says what is new, edited, gone, late",
		explain: "All of it or nothing: a folder with an error changes nothing. Nothing is run.\n" +
			"Steps that would leave the catalogue, and numbers that another step takes, are named with -gone.\n" +
			"With -dry-run nothing is changed, a reader's right is enough, and the exit code is 3 where something " +
			"would trouble.",
		example: "vorrang submit -dir steps" + "\n" + "vorrang submit -dry-run -junit steps.xml" + "\n" +
			"vorrang submit -gone 12,13",
		setUp: func(e *env) func(context.Context, []string) error {
			dir := e.flags.String("dir", "steps", "the step `folder`")
			dryRun := e.flags.Bool("dry-run", false, "say what would be done, and change nothing")
			junit := e.flags.String("junit", "", "write what would trouble as JUnit XML to a `file`")
			gone := e.flags.String(
				"gone", "",
				"the `numbers` of steps that leave the catalogue, or are taken by another step",
			)
			bundle := e.flags.String("bundle", "", "a release's bundle instead: the `file` that vorrang export wrote")
			e.mode("bundle", nil)
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if err := e.noArguments(args); err != nil {
					return err
				}
				if *bundle != "" {
					return submitBundle(ctx, e, at, *bundle)
				}
				folder, err := stepsFolder(*dir)
				if err != nil {
					return err
				}
				send := at.Submit
				if *dryRun {
					send = at.TrySubmit
				}
				submitted, err := send(ctx, at.lane, inside(folder), *gone)
				if *junit != "" {
					if written := writeSubmitJUnit(*junit, at.lane, submitted, err); written != nil {
						return written
					}
				}
				if err != nil {
					return err
				}
				err = e.print(submitted, func() { printSubmitted(e, at.lane, submitted) })
				if err == nil && *dryRun && troubles(submitted) {
					return &codedError{exitHeld, ""}
				}
				return err
			})
		},
	}
}

func printSubmitted(e *env, lane string, s *api.Submitted) {
	switch {
	case s.Trial && len(s.New)+len(s.Edited)+len(s.Gone) > 0:
		fmt.Fprintf(
			e.out,
			"%s: nothing was changed; a submission of these %s would do this:\n",
			lane,
			plural.Of(s.Steps, "step"),
		)
	case s.Submission == 0:
		fmt.Fprintf(e.out, "%s: nothing new; the catalogue holds these %s already\n", lane, plural.Of(s.Steps, "step"))
		return
	default:
		fmt.Fprintf(e.out, "%s: submission %d, %s in the catalogue\n", lane, s.Submission, plural.Of(s.Steps, "step"))
	}
	late := map[step.Number]bool{}
	for _, ref := range s.Late {
		late[ref.Number] = true
	}
	t := table{}
	list := func(word string, paint func(string) string, refs []api.StepRef, note func(api.StepRef) string) {
		for _, ref := range refs {
			t.add(cell{"  " + word, paint}, plain(string(ref.Number)), plain(ref.Slug), cell{note(ref), e.paint.warn})
		}
	}
	list("new", e.paint.good, s.New, func(ref api.StepRef) string {
		if late[ref.Number] {
			return "late wherever a higher number is applied"
		}
		return ""
	})
	places := func(ref api.StepRef, gone bool) string {
		var names []string
		where := "where it is applied"
		for _, touched := range s.Applied {
			if touched.Number == ref.Number && touched.Gone == gone {
				names = append(names, touched.Environment)
				if !touched.State.Present() {
					where = "where some of it took effect"
				}
			}
		}
		if len(names) == 0 {
			return ""
		}
		return "holds " + named(names) + ", " + where
	}
	list("edited", e.paint.warn, s.Edited, func(ref api.StepRef) string { return places(ref, false) })
	list("gone", e.paint.bad, s.Gone, func(ref api.StepRef) string { return places(ref, true) })
	t.printRows(e.out)
	if s.Unchanged > 0 {
		fmt.Fprintf(e.out, "  %s unchanged\n", plural.Of(s.Unchanged, "step"))
	}
	for _, note := range s.Notes {
		fmt.Fprintf(e.out, "\n%s %s", e.paint.warn("note:"), note.Text())
	}
	for _, why := range s.Refused {
		fmt.Fprintf(e.out, "\n%s %s\n", e.paint.bad("it would be refused:"), why)
	}
	for _, all := range touchedAlike(s) {
		touched := all.list[0]
		what := "is no longer in the folder"
		if !touched.Gone {
			what = "was edited (" + changeWords(touched.Change) + ")"
		}
		fmt.Fprintf(
			e.out,
			"\n%s step %s is %s on %s, and %s\n  → %s\n",
			e.paint.warn("warning:"),
			touched.Number, touched.State, named(all.places), what, e.paint.strong(advice.Text(touched.Remedies)),
		)
	}
	if len(s.Unlooked) > 0 {
		fmt.Fprintf(
			e.out,
			"\n%s whether these steps are applied on %s could not be seen\n",
			e.paint.warn("warning:"),
			named(s.Unlooked),
		)
	}
}

// touchedAlike is where steps are that a submission changes, those together of which the same is said.
func touchedAlike(s *api.Submitted) []*told[api.Touched] {
	return together(s.Applied, func(t api.Touched) string { return t.Environment }, func(t api.Touched) string {
		return fmt.Sprint(t.Number, t.Gone, t.State, t.Change, advice.Text(t.Remedies))
	})
}

// joined is one sentence behind another.
func joined(before, text string) string {
	if before == "" {
		return text
	}
	return before + "; " + text
}

// troubles reports whether a submission would be refused, would hold somewhere, or
// holds what a reviewer should see.
func troubles(s *api.Submitted) bool {
	return len(s.Refused)+len(s.Applied)+len(s.Late)+len(s.Notes) > 0
}

// writeSubmitJUnit writes a case for each step that a submission changes, and one
// for each thing that is wrong with the folder.
func writeSubmitJUnit(path, lane string, s *api.Submitted, failed error) error {
	suite := junitSuite{Name: lane + "/submit"}
	add := func(name, bad, next string) {
		test := junitCase{Class: suite.Name, Name: name}
		if bad != "" {
			test.Failure = &junitBad{Message: bad, Text: bad + "\n" + next}
			suite.Failures++
		}
		suite.Cases = append(suite.Cases, test)
	}
	var refused *client.Error
	var problems step.Problems
	switch {
	case errors.As(failed, &problems):
	case errors.As(failed, &refused) && len(refused.Errors) > 0:
		problems = refused.Errors
	case failed != nil:
		suite.Errors++
		suite.Cases = append(
			suite.Cases,
			junitCase{Class: suite.Name, Name: "submit", Error: &junitBad{Message: failed.Error()}},
		)
	}
	for _, p := range problems {
		add(p.File, p.Error(), "")
	}
	if s != nil {
		for _, why := range s.Refused {
			add("refused", why, "")
		}
		for _, note := range s.Notes {
			add(note.File, note.Error(), strings.TrimPrefix(note.Text(), note.Error()+"\n"))
		}
		late := map[step.Number]bool{}
		for _, ref := range s.Late {
			late[ref.Number] = true
		}
		touched := touchedAlike(s)
		for _, ref := range slices.Concat(s.New, s.Edited, s.Gone) {
			bad, next := "", ""
			if late[ref.Number] {
				bad, next = fmt.Sprintf(
					"step %s is late wherever a higher number is applied",
					ref.Number,
				), "give it a higher number"
			}
			for _, all := range touched {
				if t := all.list[0]; t.Number == ref.Number {
					bad = joined(bad, fmt.Sprintf("step %s is %s on %s, and would be changed", t.Number, t.State, named(all.places)))
					next = joined(next, advice.Text(t.Remedies))
				}
			}
			add(fmt.Sprintf("step %s (%s)", ref.Number, ref.Slug), bad, next)
		}
	}
	suite.Tests = len(suite.Cases)
	return writeXML(path, junitSuites{Suites: []junitSuite{suite}})
}
