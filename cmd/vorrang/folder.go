package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"vorrang/client"
	"vorrang/core/step"
	"vorrang/internal/advice"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

func newCommand() command {
	return command{
		verb: "new", takes: `"TITLE"`, does: "writes the next step's files in the folder",
		explain: "The number follows the highest one there, in the same form; the slug is the title in lower case.",
		example: `vorrang new "add berth index"`,
		setUp: func(e *env) func(context.Context, []string) error {
			dir := e.flags.String("dir", "steps", "the step `folder`")
			number := e.flags.String("number", "", "another `number` than the next one")
			check := e.flags.Bool("check", false, "write a check file too")
			return func(_ context.Context, args []string) error {
				title := strings.Join(args, " ")
				if strings.TrimSpace(title) == "" {
					return usage("give the step a title: vorrang new \"add berth index\"")
				}
				return writeNew(e, *dir, *number, title, *check)
			}
		},
	}
}

var notSlug = regexp.MustCompile(`[^a-z0-9]+`)

// slugOf is a title as it is in file names.
func slugOf(title string) (string, error) {
	slug := strings.Trim(notSlug.ReplaceAllString(strings.ToLower(title), "-"), "-")
	if slug == "" {
		return "", usage("the title %q has no letter or digit a-z, 0-9 to make a file name of", title)
	}
	return slug, nil
}

func writeNew(e *env, dir, number, title string, check bool) error {
	slug, err := slugOf(title)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	number, err = nextNumber(dir, number)
	if err != nil {
		return err
	}
	base := filepath.Join(dir, number+"-"+slug)
	files := [][2]string{
		{
			base + ".sql",
			fmt.Sprintf("-- %s\n-- Write the SQL that goes forward below, and take these lines out.\n", title),
		},
		{
			base + ".back.sql",
			fmt.Sprintf(
				"-- The way back of: %s\n-- Write the SQL that reverses the step below, or delete this file.\n",
				title,
			),
		},
	}
	if check {
		files = append(files, [2]string{base + ".check.sql",
			"-- Queries that must hold right after the step: each gives one row, with true in every column.\n"})
	}
	var written []string
	for _, f := range files {
		if err := writeFresh(f[0], f[1]); err != nil {
			return err
		}
		written = append(written, f[0])
	}
	return e.print(map[string][]string{"written": written}, func() {
		for _, name := range written {
			fmt.Fprintln(e.out, name)
		}
	})
}

// inside is a folder from which no link leads out: what lies elsewhere on this
// machine is not sent to the service.
func inside(folder string) fs.FS {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return os.DirFS(folder) // whose first use says why
	}
	return root.FS()
}

func writeFresh(name, text string) error {
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = file.WriteString(text)
	return errors.Join(err, file.Close())
}

// nextNumber writes the number after the highest in the folder as that one is
// written, with its leading zeros.
func nextNumber(dir, wanted string) (string, error) {
	names, err := step.List(inside(dir))
	if err != nil {
		return "", err
	}
	highest, written := step.Number(""), "0000"
	taken := map[step.Number]string{}
	for _, name := range names {
		parsed, err := step.ParseName(name)
		if err != nil {
			return "", err
		}
		taken[parsed.Number] = name
		if step.Compare(parsed.Number, highest) > 0 {
			highest = parsed.Number
			written, _, _ = strings.Cut(name, "-")
		}
	}
	if wanted != "" {
		number, err := step.ParseNumber(wanted)
		if err != nil {
			return "", usage("-number: %s", err)
		}
		if name := taken[number]; name != "" {
			return "", usage("the number %s is taken by %s", wanted, name)
		}
		return padded(string(number), written), nil
	}
	return padded(string(highest.Next()), written), nil
}

// padded writes a number as wide as another one is written.
func padded(number, like string) string {
	first, _, _ := strings.Cut(like, ".")
	own, _, _ := strings.Cut(number, ".")
	return strings.Repeat("0", max(0, len(first)-len(own))) + number
}

func declareCommand() command {
	return command{
		verb: "declare", does: "declares a lane from its file, and says what each environment then asks",
		explain: "What loosens a gate, moves a target or drops an environment is shown first, and done only with -confirm and the lane's name.\n" +
			"To declare what stands already changes nothing.",
		example: "vorrang declare -file lane.yaml" + "\n" + "vorrang declare -confirm harbour",
		setUp: func(e *env) func(context.Context, []string) error {
			file := e.flags.String("file", "lane.yaml", "the lane `file`")
			confirm := e.flags.String(
				"confirm", "",
				"the `lane`'s name, typed, where something is loosened, moved or dropped",
			)
			return func(ctx context.Context, args []string) error {
				if err := noArguments(args); err != nil {
					return err
				}
				text, err := os.ReadFile(*file)
				if err != nil {
					return err
				}
				declared, err := e.client().Declare(ctx, *file, text, *confirm)
				if err != nil {
					return err
				}
				return e.print(declared, func() { printDeclared(e, declared) })
			}
		},
	}
}

func printDeclared(e *env, d *api.Declared) {
	what := "is declared"
	if !d.Changed {
		what = "stands as it was"
	}
	fmt.Fprintf(e.out, "lane %s %s: %s\n", d.Lane.Name, what, strings.Join(d.Lane.Names(), " → "))
	t := table{}
	for _, asked := range d.Asks {
		t.add(
			plain("  "+asked.Environment),
			plain("asks for "+cmp.Or(strings.Join(asked.Asks, ", "), "nothing beyond what every gate asks")),
			cell{asked.Why, e.paint.dim},
		)
	}
	t.printRows(e.out)
	for _, change := range d.Changes {
		fmt.Fprintf(e.out, "  %s: %s\n", change.Environment, change.What)
	}
}

func lanesCommand() command {
	return command{
		verb: "lanes", does: "lists the lanes", example: "vorrang lanes",
		setUp: func(e *env) func(context.Context, []string) error {
			return e.alone(func(ctx context.Context, c *client.Client) error {
				lanes, err := c.Lanes(ctx)
				if err != nil {
					return err
				}
				return e.print(lanes, func() { printLanes(e, lanes) })
			})
		},
	}
}

func printLanes(e *env, lanes *api.Lanes) {
	if len(lanes.Lanes) == 0 {
		fmt.Fprintln(e.out, "no lane is declared yet; vorrang declare -file lane.yaml declares one")
		return
	}
	t := table{heads: []string{"LANE", "STEPS", "ENVIRONMENTS", "ABOUT"}}
	for _, l := range lanes.Lanes {
		var names []string
		for _, environment := range l.Environments {
			names = append(names, environment.Environment)
		}
		t.add(
			cell{l.Lane, e.paint.strong},
			plain(fmt.Sprint(l.Steps)),
			plain(strings.Join(names, " → ")),
			plain(l.About),
		)
	}
	t.print(e.out, e.paint)
}

func probeCommand() command {
	return command{
		verb: "probe", does: "says whether a target can be used: version, rights, TLS, what to fix",
		explain: "It changes nothing. Exit code 1 if the target cannot be used.",
		example: "vorrang probe -env production",
		setUp: func(e *env) func(context.Context, []string) error {
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				probe, err := at.Probe(ctx, at.lane, at.environment)
				if err != nil {
					return err
				}
				if err := e.print(probe, func() { printProbe(e, probe) }); err != nil || probe.Usable {
					return err
				}
				return &codedError{exitError, ""}
			})
		},
	}
}

func printProbe(e *env, probe *api.Probe) {
	word := e.paint.good("can be used")
	if !probe.Usable {
		word = e.paint.bad("cannot be used")
	}
	fmt.Fprintf(e.out, "%s/%s %s\n", probe.Lane, probe.Environment, word)
	t := table{}
	for _, look := range probe.Looks {
		mark := cell{"ok", e.paint.good}
		if !look.OK {
			mark = cell{"fix", e.paint.bad}
		}
		t.add(plain("  "+look.What), mark, plain(look.Says))
		for _, fix := range []string{look.Fix, advice.Text(look.Remedies)} {
			if fix != "" {
				t.add(plain(""), plain(""), cell{"→ " + fix, e.paint.strong})
			}
		}
	}
	t.printRows(e.out)
}

func submitCommand() command {
	return command{
		verb: "submit", does: "sends the step folder to the catalogue; says what is new, edited, gone, late",
		explain: "All of it or nothing: a folder with an error changes nothing. Nothing is run.\n" +
			"Steps that would leave the catalogue, and numbers that another step takes, are named with -gone.\n" +
			"With -dry-run nothing is changed, a reader's right is enough, and the exit code is 3 where something would trouble.",
		example: "vorrang submit -dir steps" + "\n" + "vorrang submit -dry-run -junit steps.xml" + "\n" + "vorrang submit -gone 12,13",
		setUp: func(e *env) func(context.Context, []string) error {
			dir := e.flags.String("dir", "steps", "the step `folder`")
			dryRun := e.flags.Bool("dry-run", false, "say what would be done, and change nothing")
			junit := e.flags.String("junit", "", "write what would trouble as JUnit XML to a `file`")
			gone := e.flags.String(
				"gone", "",
				"the `numbers` of steps that leave the catalogue, or are taken by another step",
			)
			bundle := e.flags.String("bundle", "", "a release's bundle instead: the `file` that vorrang export wrote")
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if err := noArguments(args); err != nil {
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
		return "holds " + strings.Join(names, ", ") + ", " + where
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
	for _, touched := range s.Applied {
		what := "is no longer in the folder"
		if !touched.Gone {
			what = "was edited (" + changeWords(touched.Change) + ")"
		}
		fmt.Fprintf(
			e.out,
			"\n%s step %s is %s on %s, and %s\n  → %s\n",
			e.paint.warn("warning:"),
			touched.Number, touched.State, touched.Environment, what, e.paint.strong(advice.Text(touched.Remedies)),
		)
	}
	if len(s.Unlooked) > 0 {
		fmt.Fprintf(
			e.out,
			"\n%s whether these steps are applied on %s could not be seen\n",
			e.paint.warn("warning:"),
			strings.Join(s.Unlooked, ", "),
		)
	}
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
			add(note.File, note.Error(), note.Text())
		}
		late := map[step.Number]bool{}
		for _, ref := range s.Late {
			late[ref.Number] = true
		}
		for _, ref := range slices.Concat(s.New, s.Edited, s.Gone) {
			bad, next := "", ""
			if late[ref.Number] {
				bad, next = fmt.Sprintf(
					"step %s is late wherever a higher number is applied",
					ref.Number,
				), "give it a higher number"
			}
			for _, t := range s.Applied {
				if t.Number == ref.Number {
					bad, next = fmt.Sprintf(
						"step %s is %s on %s, and would be changed",
						t.Number, t.State, t.Environment,
					), advice.Text(t.Remedies)
				}
			}
			add(fmt.Sprintf("step %s (%s)", ref.Number, ref.Slug), bad, next)
		}
	}
	suite.Tests = len(suite.Cases)
	return writeXML(path, junitSuites{Suites: []junitSuite{suite}})
}
