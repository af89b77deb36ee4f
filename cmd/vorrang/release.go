package main

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"

	"vorrang/client"
	"vorrang/core/gate"
	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

func cutCommand() command {
	return command{
		verb: "cut", takes: "NAME", does: "seals every step up to a point into a release",
		explain: "A release names every file with its checksum; its digest is the SHA-256 of that list. It never " +
			"changes, and the\n" +
			"texts of its steps cannot be replaced. Where the step folder is there, it must be what the catalogue holds,\n" +
			"and the commit that it is at is recorded.",
		example: "vorrang cut 2026.11\nvorrang cut 2026.11.1 -through 12 -notes NOTES.md",
		setUp: func(e *env) func(context.Context, []string) error {
			through := e.flags.String("through", "", "the last `step`; without it all")
			dir := e.flags.String("dir", "steps", "the step `folder`")
			notes := e.flags.String("notes", "", "a `file` with release notes in Markdown")
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if len(args) != 1 {
					return usage("name the release: vorrang cut 2026.11")
				}
				what := client.Cutting{Name: args[0], Through: *through}
				if err := fromFolder(ctx, &what, *dir); err != nil {
					return err
				}
				if *notes != "" {
					text, err := os.ReadFile(*notes)
					if err != nil {
						return err
					}
					what.Notes = string(text)
				}
				cut, err := at.Cut(ctx, at.lane, what)
				if err != nil {
					return err
				}
				return e.print(cut, func() { printRelease(e, cut.Release, "is cut") })
			})
		},
	}
}

// fromFolder adds what the step folder says of a release: its digest, and the
// commit of its repository. Without a folder nothing is added.
func fromFolder(ctx context.Context, what *client.Cutting, dir string) error {
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return nil
	}
	steps, err := step.ReadDir(inside(dir))
	if err != nil {
		return err
	}
	through, err := step.ParseNumber(cmp.Or(what.Through, string(steps[len(steps)-1].Number)))
	if err != nil {
		return usage("-through: %s", err)
	}
	var sealed []release.Sealed
	for _, s := range steps {
		if step.Compare(s.Number, through) <= 0 {
			sealed = append(sealed, release.Of(s))
		}
	}
	what.Digest = release.Digest(release.Sums(sealed))
	commit, err := git(ctx, dir, "rev-parse", "HEAD")
	if err != nil {
		return nil // no repository, or no git: nothing to record
	}
	changes, err := git(ctx, dir, "status", "--porcelain", "--", ".")
	what.Commit, what.Clean = commit, err == nil && changes == ""
	return nil
}

func git(ctx context.Context, dir string, args ...string) (string, error) {
	command := exec.CommandContext(ctx, "git", append([]string{"-C", dir}, args...)...)
	output, err := command.Output()
	return strings.TrimSpace(string(output)), err
}

func printRelease(e *env, r release.Release, became string) {
	fmt.Fprintf(
		e.out,
		"release %s of %s %s: %s, through %s\n",
		e.paint.strong(r.Name), r.Lane, became,
		plural.Of(r.Count, "step"),
		r.Through,
	)
	fmt.Fprintf(e.out, "digest %s\n", r.Digest)
	if r.Commit != "" {
		state := "a clean folder"
		if !r.Clean {
			state = e.paint.warn("a folder with changes that are not committed")
		}
		fmt.Fprintf(e.out, "commit %s, %s\n", r.Commit, state)
	}
}

func releasesCommand() command {
	return command{
		verb: "releases", takes: "[NAME]", does: "lists the releases; or shows one, and what it brings",
		explain: "With a name and -env, what is new against what is applied there; with -against, against another " +
			"release. With -html\n" +
			"too, what a reviewer reads of its promotion there: the steps with findings, the rehearsal, the gate, in " +
			"one document.",
		example: "vorrang releases\nvorrang releases 2026.11 -env production\nvorrang releases 2026.11 -env production " +
			"-html 2026.11.html",
		setUp: func(e *env) func(context.Context, []string) error {
			environment := e.flags.String("env", "", "compare with this `environment`")
			against := e.flags.String("against", "", "compare with this `release`")
			var query client.ReleaseQuery
			e.flags.StringVar(&query.Search, "search", "", "only those in whose name, notes, commit or maker this `text` stands")
			e.flags.StringVar(&query.Before, "before", "", "only those before this `release`")
			e.flags.IntVar(&query.Limit, "limit", 0, "the newest so many; without it 100")
			document := e.flags.String("html", "", "write a report of its promotion to -env to a `file`")
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if *document != "" && (len(args) != 1 || *environment == "") {
					return usage("say which release, and where: vorrang releases NAME -env E -html FILE")
				}
				if len(args) == 1 && query != (client.ReleaseQuery{}) {
					return usage("-search, -before and -limit are about the list, and %s is one release", args[0])
				}
				if len(args) > 1 || len(args) == 0 && *environment+*against != "" ||
					*environment != "" && *against != "" {
					return usage(
						"vorrang releases lists them; vorrang releases NAME -env E, or -against R, compares one",
					)
				}
				if len(args) == 0 {
					list, err := at.ReleasesPage(ctx, at.lane, query)
					if err != nil {
						return err
					}
					return e.print(list, func() { printReleases(e, query, list) })
				}
				if *document != "" {
					return writeReport(ctx, e, at, *environment, args[0], *document)
				}
				content, err := at.Release(ctx, at.lane, args[0], *environment, *against)
				if err != nil {
					return err
				}
				return e.print(content, func() { printContent(e, content, *environment+*against) })
			})
		},
	}
}

// writeReport keeps a report in a file, which is there whole or as it was before.
func writeReport(ctx context.Context, e *env, at spot, environment, release, file string) error {
	var text bytes.Buffer
	if err := at.Report(ctx, at.lane, environment, release, &text); err != nil {
		return err
	}
	if err := os.WriteFile(file, text.Bytes(), 0o644); err != nil {
		return err
	}
	return e.print(map[string]string{"file": file}, func() {
		fmt.Fprintf(e.out, "%s: what a reviewer reads of release %s of %s to %s\n", file, release, at.lane, environment)
	})
}

func printReleases(e *env, query client.ReleaseQuery, list *api.Releases) {
	if len(list.Releases) == 0 && query != (client.ReleaseQuery{Limit: query.Limit}) {
		fmt.Fprintln(e.out, "there is no such release")
		return
	}
	if len(list.Releases) == 0 {
		fmt.Fprintln(e.out, "nothing was cut yet; vorrang cut NAME seals the steps so far")
		return
	}
	t := table{heads: []string{"RELEASE", "THROUGH", "STEPS", "CUT (UTC)", "BY", "COMMIT", "DIGEST"}}
	for _, r := range list.Releases {
		commit := r.Commit[:min(len(r.Commit), 10)]
		if commit != "" && !r.Clean {
			commit += " +changes"
		}
		t.add(
			cell{r.Name, e.paint.strong},
			plain(string(r.Through)), plain(fmt.Sprint(r.Count)), plain(moment(r.CutAt)), plain(r.Maker()),
			plain(commit),
			cell{r.Digest.Short(), e.paint.dim},
		)
	}
	t.print(e.out, e.paint)
	if list.Next != "" {
		fmt.Fprintln(e.out, e.paint.dim("there are older ones: -before "+list.Next))
	}
}

// made says how a release came here.
func made(r release.Release) string {
	if r.TakenInBy != "" {
		return "was " + r.Maker()
	}
	return "was cut by " + r.CutBy
}

func printContent(e *env, content *api.ReleaseContent, against string) {
	printRelease(e, content.Release, made(content.Release))
	for _, s := range content.Signatures {
		fmt.Fprintf(e.out, "signed by %s\n", s.Fingerprint)
	}
	if content.Release.Notes != "" {
		fmt.Fprintf(e.out, "\n%s\n", content.Release.Notes)
	}
	if against == "" {
		fmt.Fprintf(e.out, "\n%s", content.Sums)
		return
	}
	if len(content.Away) > 0 {
		fmt.Fprintln(e.out, e.paint.warn(fmt.Sprintf("\nnot compared with %s of %s, which could not be read: %s",
			plural.Of(len(content.Away), "target"), against, gate.Some(content.Away))))
	}
	if content.Targets > 0 {
		against = fmt.Sprintf("%s of %s", plural.Of(content.Targets, "target"), against)
	}
	if len(content.Changes) == 0 {
		fmt.Fprintf(e.out, "\nit brings nothing new to %s\n", against)
		return
	}
	fmt.Fprintf(e.out, "\nagainst %s:\n", against)
	t := table{}
	for _, change := range content.Changes {
		t.add(
			plain("  "+change.What),
			cell{plan.Mark(content.Overlaps, change.Number), e.paint.warn},
			plain(string(change.Number)), plain(change.Slug), plain(string(change.Mode)), plain(string(change.Phase)),
		)
	}
	t.printRows(e.out)
	printOverlaps(e, content.Overlaps)
}

// printOverlaps says where two versions of the application run.
func printOverlaps(e *env, list []plan.Overlap) {
	for _, o := range list {
		fmt.Fprintln(e.out, e.paint.warn("two versions:"), o.Message)
	}
}

func exportCommand() command {
	return command{
		verb: "export", takes: "NAME", does: "writes a release as a .tar.gz with SHA256SUMS inside",
		explain: "sha256sum -c SHA256SUMS checks it; vorrang submit -bundle brings it into another Vorrang, unchanged.",
		example: "vorrang export 2026.11 -o harbour-2026.11.tar.gz",
		setUp: func(e *env) func(context.Context, []string) error {
			file := e.flags.String("o", "", "the `file` to write; without it LANE-NAME.tar.gz")
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if len(args) != 1 {
					return usage("name the release: vorrang export 2026.11")
				}
				var packed bytes.Buffer
				if err := at.Export(ctx, at.lane, args[0], &packed); err != nil {
					return err
				}
				name := cmp.Or(*file, at.lane+"-"+args[0]+".tar.gz")
				if err := os.WriteFile(name, packed.Bytes(), 0o644); err != nil {
					return err
				}
				return e.print(map[string]string{"written": name}, func() { fmt.Fprintln(e.out, name) })
			})
		},
	}
}

func submitBundle(ctx context.Context, e *env, at spot, name string) error {
	packed, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	taken, err := at.SubmitBundle(ctx, at.lane, bytes.NewReader(packed))
	if err != nil {
		return err
	}
	return e.print(taken, func() {
		became := fmt.Sprintf("is taken in, %s new", plural.Of(taken.New, "step"))
		if taken.Known {
			became = "is here already, the same to the byte"
		}
		printRelease(e, taken.Release, became)
	})
}
