package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strings"
)

// command is one verb.
type command struct {
	verb    string // one word, or two as in "lane apply"
	takes   string // its arguments
	does    string // in one line
	explain string // more, where one line is not enough
	example string
	// setUp declares the flags, and returns what runs once they are parsed
	setUp func(*env) func(ctx context.Context, args []string) error
}

// groups is the order of the overview.
func groups() []struct {
	title    string
	commands []command
} {
	return []struct {
		title    string
		commands []command
	}{
		{
			"write and submit",
			[]command{
				newCommand(), declareCommand(), lanesCommand(), enginesCommand(), probeCommand(), submitCommand(), reviewCommand(),
				withdrawCommand(), draftCommand(),
			},
		},
		{"releases", []command{cutCommand(), releasesCommand(), signCommand(), exportCommand()}},
		{
			"look",
			[]command{
				statusCommand(), previewCommand(), rehearseCommand(), gateCommand(), ledgerCommand(), verifyCommand(),
				driftCommand(), compareCommand(), deploymentsCommand(), watchCommand(), awaitCommand(),
			},
		},
		{"gates", []command{approveCommand(), waiveCommand(), freezeCommand(), thawCommand(), backupCommand(),
			setAsideCommand()}},
		{
			"act",
			[]command{
				promoteCommand(), scheduledCommand(), rollbackCommand(), cancelCommand(), pauseCommand(), resumeCommand(),
				rebuildCommand(),
			},
		},
		{
			"record what you know",
			[]command{
				baselineCommand(), attestCommand(), amendCommand(), settleCommand(), adoptCommand(), acceptCommand(),
			},
		},
		{
			"people",
			[]command{
				loginCommand(), logoutCommand(), whoamiCommand(), passwordCommand(), peopleCommand(), personCommand(),
				tokensCommand(), tokenCommand(), auditCommand(), hooksCommand(), hookCommand(), servicesCommand(),
			},
		},
	}
}

func commands() []command {
	var all []command
	for _, g := range groups() {
		all = append(all, g.commands...)
	}
	return all
}

// find takes the longest verb that the arguments begin with.
func find(args []string) (c command, rest []string, found bool) {
	for _, candidate := range commands() {
		words := strings.Fields(candidate.verb)
		if len(args) >= len(words) && strings.Join(args[:len(words)], " ") == candidate.verb {
			return candidate, args[len(words):], true
		}
	}
	return command{}, nil, false
}

func overview(w io.Writer) {
	fmt.Fprint(w, "Vorrang brings ordered SQL migration scripts from development to production.\n\n")
	for _, g := range groups() {
		fmt.Fprintf(w, "%s\n", g.title)
		for _, c := range g.commands {
			fmt.Fprintf(w, "  %-13s %s\n", c.verb, c.does)
		}
		fmt.Fprintln(w)
	}
	fmt.Fprint(w, "vorrang help COMMAND explains one, with an example. Flags stand after the command.\n"+
		"The service is found by VORRANG_SERVER; vorrang login, or a token in VORRANG_TOKEN, opens it.\n"+
		"Exit codes: 0 done, or clear · 1 error · 2 usage · 3 held, or not there yet · 4 a deployment failed · 5 "+
		"in doubt\n")
}

func help(w io.Writer, args []string) error {
	if len(args) == 0 {
		overview(w)
		return nil
	}
	c, _, found := find(strings.Fields(strings.Join(args, " ")))
	if !found {
		return usage("there is no command %q%s", strings.Join(args, " "), suggest(args[0]))
	}
	fmt.Fprintf(w, "vorrang %s\n\n%s.\n", strings.TrimSpace(c.verb+" "+c.takes), sentence(c.does))
	if c.explain != "" {
		fmt.Fprintf(w, "%s\n", c.explain)
	}
	fmt.Fprintf(w, "\nExample:\n  %s\n\nFlags:\n", strings.ReplaceAll(c.example, "\n", "\n  "))
	e := newEnv(c, w, w)
	c.setUp(e)
	e.flags.VisitAll(func(f *flag.Flag) {
		kind, explains := flag.UnquoteUsage(f)
		fmt.Fprintf(w, "  %-22s %s\n", strings.TrimSpace("-"+f.Name+" "+kind), explains)
	})
	return nil
}

func sentence(text string) string { return strings.ToUpper(text[:1]) + text[1:] }

// suggest names the command that a mistyped one is nearest to.
func suggest(typed string) string {
	best, least := "", 3
	for _, c := range commands() {
		verb := strings.Fields(c.verb)[0]
		if d := distance(typed, verb); d < least || (len(typed) > 2 && strings.HasPrefix(verb, typed)) {
			best, least = c.verb, min(d, least)
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf("; did you mean  vorrang %s ?", best)
}

// distance counts the letters to change, add, drop or swap.
func distance(a, b string) int {
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			change := 1
			if a[i-1] == b[j-1] {
				change = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+change)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(a)][len(b)]
}
