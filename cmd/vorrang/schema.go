package main

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"vorrang/client"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

func driftCommand() command {
	return command{
		verb: "drift", does: "says what differs from what the last deployment left",
		explain: "Reads the catalogs only. Exit code 0 if nothing differs, 3 if something does, or if it cannot be known.",
		example: "vorrang drift -env production",
		setUp: func(e *env) func(context.Context, []string) error {
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				d, err := at.Drift(ctx, at.lane, at.environment)
				if err != nil {
					return err
				}
				if err := e.print(d, func() { printDrift(e, d) }); err != nil {
					return err
				}
				if d.Unknown != "" || len(d.Differences) > 0 {
					return &codedError{exitHeld, ""}
				}
				return nil
			})
		},
	}
}

func printDrift(e *env, d *api.Drift) {
	place := d.Lane + "/" + d.Environment
	from := ""
	if d.Since != nil {
		from = fmt.Sprintf("what %s left at %s UTC", d.From, moment(*d.Since))
	}
	switch {
	case d.Unknown != "":
		fmt.Fprintf(e.out, "whether %s has drifted is %s: %s\n", place, e.paint.warn("not known"), d.Unknown)
	case len(d.Differences) == 0:
		fmt.Fprintf(
			e.out,
			"%s: the schema of %s, %s, is %s\n",
			e.paint.good("no drift"),
			place,
			plural.Of(d.Objects, "object"),
			from,
		)
	default:
		fmt.Fprintf(
			e.out,
			"%s in %s from %s\n",
			e.paint.bad("drift: "+plural.Count(len(d.Differences), "object differs", "objects differ")),
			place, from,
		)
	}
	printDifferences(e, "  ", d.Differences, 0)
	printUncovered(e, place, d.Uncovered)
	at := fmt.Sprintf("-lane %s -env %s", d.Lane, d.Environment)
	if len(d.Differences) > 0 && d.Unknown == "" {
		fmt.Fprintf(
			e.out,
			"→ keep it, as a step that other environments get too: vorrang draft %s -drift keep, submit it, and "+
				"attest it here\n",
			at,
		)
		fmt.Fprintf(e.out, "→ take it back, by a step: vorrang draft %s -drift undo\n", at)
	}
	if len(d.Differences) > 0 || d.Unknown != "" {
		fmt.Fprintf(e.out, "→ it is right as it is: vorrang accept %s -reason \"…\"\n", at)
	}
}

// printDifferences lists differences, what belongs to a table below it. most is
// how many lines there may be; 0 means all.
func printDifferences(e *env, indent string, differences []schema.Difference, most int) {
	shown := map[string]bool{}
	t := table{}
	paints := map[schema.What]func(string) string{
		schema.Added:   e.paint.good,
		schema.Removed: e.paint.bad,
		schema.Changed: e.paint.warn,
	}
	rest := 0
	if most > 0 && len(differences) > most {
		differences, rest = differences[:most], len(differences)-most
	}
	for _, d := range differences {
		shown[d.Name] = true
		name := string(d.Kind) + " " + d.Name
		if d.Of != "" && shown[d.Of] {
			name = "  " + string(d.Kind) + " " + strings.TrimPrefix(d.Name, d.Of+".")
		}
		lines := detail(d)
		first := ""
		if len(lines) > 0 {
			first = lines[0]
		}
		t.add(cell{indent + string(d.What), paints[d.What]}, plain(name), cell{first, e.paint.dim})
		for _, line := range lines[min(1, len(lines)):] {
			t.add(plain(""), plain(""), cell{line, e.paint.dim})
		}
	}
	t.printRows(e.out)
	if rest > 0 {
		fmt.Fprintf(e.out, "%s%s\n", indent, e.paint.dim("and "+plural.Of(rest, "object")+" more"))
	}
}

// detail says what an added object is, or how a changed one changed.
func detail(d schema.Difference) []string {
	value := func(name schema.Property) string {
		for _, p := range d.Props {
			if p.Name == name {
				return short(p.After)
			}
		}
		return ""
	}
	switch {
	case d.What == schema.Changed:
		var lines []string
		for _, p := range d.Props {
			was, is := p.Words()
			lines = append(lines, fmt.Sprintf("%s: %s, was %s", p.Name, is, was))
		}
		return lines
	case d.Kind == schema.Column && d.What == schema.Added:
		text := value("type")
		if value("null") != "" {
			text += " not null"
		}
		if fallback := value("default"); fallback != "" {
			text += " default " + fallback
		}
		return []string{text}
	case d.Kind != schema.Table && value("definition") != "":
		return []string{value("definition")}
	}
	return nil
}

// short is a property's first words, on one line.
func short(text string) string {
	const most = 90
	words := []rune(strings.Join(strings.Fields(text), " "))
	if len(words) > most {
		return string(words[:most]) + "…"
	}
	return string(words)
}

func acceptCommand() command {
	return command{
		verb: "accept", does: "says that a schema is right as it is, though it drifted",
		explain: "Nothing is run. It is kept who said so and why; the ledger does not change.",
		example: `vorrang accept -env production -reason "the index of ticket 4711"`,
		setUp: func(e *env) func(context.Context, []string) error {
			reason := e.flags.String("reason", "", "why it is right, in your `words`")
			fingerprint := e.flags.String(
				"fingerprint", "",
				"only if the schema still has this `fingerprint`; without it, as it is now",
			)
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				if strings.TrimSpace(*reason) == "" {
					return usage("say why: -reason \"…\"")
				}
				if *fingerprint == "" {
					d, err := at.Drift(ctx, at.lane, at.environment)
					if err != nil {
						return err
					}
					if !*e.json {
						printDifferences(e, "  ", d.Differences, 0)
					}
					*fingerprint = d.Fingerprint
				}
				accepted, err := at.Accept(ctx, at.lane, at.environment, *fingerprint, *reason)
				if err != nil {
					return err
				}
				return e.print(accepted, func() {
					fmt.Fprintf(
						e.out,
						"the schema of %s/%s is right as it is, with %s that differed\n",
						at.lane, at.environment,
						plural.Of(accepted.Objects, "object"),
					)
				})
			})
		},
	}
}

type names []string

func (n *names) String() string     { return strings.Join(*n, ", ") }
func (n *names) Set(v string) error { *n = append(*n, v); return nil }

func draftCommand() command {
	return command{
		verb: "draft", does: "writes steps from a schema, or from a difference, for review",
		explain: "With -env, the first step of an existing database: everything that it takes to make it, and with -rows " +
			"the rows of\n" +
			"some tables. With -from and -with, the steps that give -with the schema of -from. With -env and -drift, a " +
			"step of what\n" +
			"drifted there: keep does the same, to be attested there, and undo takes it back. Each has its way back.\n" +
			"Every draft is run and taken back in a scratch database first, on the server of a disposable environment.\n" +
			"A rename looks like something that goes and something that comes, so it is asked: answer with -rename " +
			"OLD=NEW, or\n" +
			"with -rename none. Exit code 3 if something has to be answered first, or could not be drafted; the file says what.",
		example: "vorrang draft -env production -name \"take over harbour\" -rows harbour.berth\n" +
			"vorrang draft -from development -with staging -rename harbour.vessel.name=harbour.vessel.title\n" +
			"vorrang draft -env production -drift keep",
		setUp: func(e *env) func(context.Context, []string) error {
			var renames, rows names
			in := client.DraftRequest{}
			e.flags.StringVar(&in.Environment, "env", "", "the `environment` of the database")
			e.flags.StringVar(&in.Drift, "drift", "", "of what drifted there, a step to `keep|undo` it")
			e.flags.StringVar(&in.From, "from", "", "the `environment` with the desired schema")
			e.flags.StringVar(&in.With, "with", "", "the `environment` that should get it")
			e.flags.Var(&renames, "rename", "`OLD=NEW`, a table or column that is renamed, or none; may be repeated")
			e.flags.Var(&rows, "rows", "a `table` whose rows come along as COPY; may be repeated")
			e.flags.BoolVar(&in.Owners, "owners", false, "owners and grants too")
			dir := e.flags.String("dir", "steps", "the step `folder`")
			name := e.flags.String("name", "", "the steps' `title`")
			number := e.flags.String("number", "", "another `number` than the next one, for the first file")
			shown := e.flags.Bool("print", false, "write no files, but print what they would hold")
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if err := e.noArguments(args); err != nil {
					return err
				}
				in.Renames, in.Rows = renames, rows
				ofOne := in.Environment != "" && in.From+in.With == ""
				ofTwo := in.Environment == "" && in.From != "" && in.With != "" && in.Drift == "" && len(rows) == 0
				if !ofOne && !ofTwo {
					return usage("say of what: -env ENVIRONMENT, alone or with -rows or -drift; or -from and -with, and which environments")
				}
				made, err := at.Draft(ctx, at.lane, in)
				if err != nil {
					return err
				}
				return writeDraft(
					e, made,
					draftPlace{dir: *dir, title: cmp.Or(*name, draftTitle(in)), number: *number, print: *shown},
				)
			})
		},
	}
}

func draftTitle(in client.DraftRequest) string {
	switch {
	case in.Drift == "keep":
		return "keep what was changed on " + in.Environment
	case in.Drift == "undo":
		return "take back what was changed on " + in.Environment
	case in.Environment != "":
		return "take over " + in.Environment
	}
	return fmt.Sprintf("bring %s to %s", in.With, in.From)
}

// draftPlace is where drafted files go.
type draftPlace struct {
	dir, title, number string
	print              bool
}

func writeDraft(e *env, d *api.Draft, to draftPlace) error {
	for _, q := range d.Questions {
		fmt.Fprintf(
			e.errs,
			"%s %s goes and %s comes: is it the same, renamed? -rename %s=%s if it is\n",
			q.Kind, q.Old, q.New, q.Old, schema.Unqualified(q.New),
		)
	}
	if len(d.Questions) > 0 {
		fmt.Fprintln(
			e.errs,
			"→ answer with -rename for each that is renamed, and -rename none if no other is; nothing was drafted yet",
		)
		return &codedError{exitHeld, ""}
	}
	if !d.Proved {
		return fmt.Errorf("no draft is handed out, since it could not be proved: %s", d.Why)
	}
	if len(d.Steps) == 0 {
		return e.print(d, func() { fmt.Fprintln(e.out, "nothing to draft: there is no difference") })
	}
	if *e.json {
		return e.print(d, nil)
	}
	if to.print {
		for _, s := range d.Steps {
			fmt.Fprintf(e.out, "%s\n-- the way back\n%s\n", s.Forward, s.Back)
		}
	} else if err := writeDraftFiles(e, d, to); err != nil {
		return err
	}
	for _, loss := range d.Losses {
		fmt.Fprintln(e.errs, e.paint.bad("! it loses "+loss))
	}
	for _, u := range append(d.Undraftable, d.Irreversible...) {
		fmt.Fprintln(e.errs, e.paint.warn(fmt.Sprintf("! not drafted: %s %s: %s", u.Kind, u.Name, u.Why)))
	}
	for _, u := range d.Uncovered {
		fmt.Fprintln(
			e.errs,
			e.paint.warn(
				fmt.Sprintf("! not compared: %s (%s)", plural.Of(u.Count, u.What), strings.Join(u.Names, ", ")),
			),
		)
	}
	if len(d.Undraftable)+len(d.Irreversible)+len(d.Uncovered) > 0 {
		return &codedError{exitHeld, ""}
	}
	return nil
}

func writeDraftFiles(e *env, d *api.Draft, to draftPlace) error {
	slug, err := slugOf(to.title)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(to.dir, 0o755); err != nil {
		return err
	}
	for i, s := range d.Steps {
		number, err := nextNumber(to.dir, to.number)
		if err != nil {
			return err
		}
		to.number = ""
		base := filepath.Join(to.dir, number+"-"+slug)
		if i > 0 {
			base += fmt.Sprintf("-part-%d", i+1)
		}
		for _, file := range [][2]string{{base + ".sql", s.Forward}, {base + ".back.sql", s.Back}} {
			if len(file[1]) > step.MaxFileSize {
				return fmt.Errorf("%s would be larger than a step's file may be; take rows out of it", file[0])
			}
			if err := writeFresh(file[0], file[1]); err != nil {
				return err
			}
			fmt.Fprintln(e.out, file[0])
		}
	}
	fmt.Fprintln(
		e.out,
		e.paint.dim(fmt.Sprintf("proved in a scratch database: forward and back; for review, it %s", d.About)),
	)
	return nil
}

// mostEffect is how many objects a promotion lists below each step.
const mostEffect = 8

// effectOf writes what a step did to the schema, below its line.
func effectOf(e *env, differences []schema.Difference, more, most int) {
	printDifferences(e, "         ", differences, most)
	if more > 0 {
		fmt.Fprintf(e.out, "         %s\n", e.paint.dim("and "+plural.Of(more, "object")+" more that are not listed"))
	}
}

func printEffects(e *env, list *api.Effects) {
	if len(list.Effects) == 0 {
		fmt.Fprintln(e.out, "no deployment of this environment has changed the schema since Vorrang looks at it")
	}
	for _, one := range list.Effects {
		what := "all its steps together"
		if one.Step != "" {
			what = "step " + string(one.Step)
		}
		fmt.Fprintf(e.out, "deployment %d, %s, %s UTC\n", one.Deployment, what, one.At.UTC().Format(time.DateTime))
		effectOf(e, one.Effect, one.More, 0)
	}
	e.older(list.Next)
}
