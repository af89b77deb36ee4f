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
	"strings"

	"vorrang/client"
	"vorrang/core/step"
	"vorrang/internal/advice"
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
		explain: "What loosens a gate, moves a target or drops an environment is shown first, and done only with -confirm " +
			"and the lane's name.\n" +
			"To declare what stands already changes nothing.",
		example: "vorrang declare -file lane.yaml" + "\n" + "vorrang declare -confirm harbour",
		setUp: func(e *env) func(context.Context, []string) error {
			file := e.flags.String("file", "lane.yaml", "the lane `file`")
			confirm := e.flags.String(
				"confirm", "",
				"the `lane`'s name, typed, where something is loosened, moved or dropped",
			)
			return func(ctx context.Context, args []string) error {
				if err := e.noArguments(args); err != nil {
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
	for _, asked := range d.Asks {
		if asked.Unread != "" {
			fmt.Fprintf(e.out, "%s %s\n", e.paint.warn("! "+asked.Environment+" has no targets yet:"), asked.Unread)
		}
	}
	for _, change := range d.Changes {
		fmt.Fprintf(e.out, "  %s: %s\n", change.Environment, change.What)
	}
}

func lanesCommand() command {
	return command{
		verb: "lanes", does: "lists the lanes",
		explain: "It asks no target; vorrang status does.",
		example: "vorrang lanes\nvorrang lanes -search dues",
		setUp: func(e *env) func(context.Context, []string) error {
			query := e.listByName("name or purpose")
			return e.alone(func(ctx context.Context, c *client.Client) error {
				lanes, err := c.LanesPage(ctx, client.LaneQuery{ListQuery: *query, NoLook: true})
				if err != nil {
					return err
				}
				return e.print(lanes, func() {
					if len(lanes.Lanes) == 0 && asksForSome(*query) {
						fmt.Fprintln(e.out, "no such lane")
						return
					}
					printLanes(e, lanes)
					e.further(lanes.Next)
				})
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
		t.add(plain("  "+look.What), mark, plain(look.Message))
		for _, fix := range []string{look.Fix, advice.Text(look.Remedies)} {
			if fix != "" {
				t.add(plain(""), plain(""), cell{"→ " + fix, e.paint.strong})
			}
		}
	}
	t.printRows(e.out)
}
