// Vorrang is the client: it brings step folders to the service, and asks it
// for promotions, rollbacks and where everything stands. It talks to the
// service only, never to a database.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"vorrang/client"
	"vorrang/core/gate"
	"vorrang/core/step"
	"vorrang/internal/advice"
	"vorrang/internal/plural"
)

// version is set by the build.
var version = "development"

// Exit codes.
const (
	exitDone    = 0
	exitError   = 1
	exitUsage   = 2
	exitHeld    = 3
	exitFailed  = 4
	exitInDoubt = 5
)

// codedError carries an exit code; its text may be empty where everything was
// said already.
type codedError struct {
	code int
	text string
}

func (e *codedError) Error() string { return e.text }

func usage(format string, args ...any) error {
	return &codedError{exitUsage, fmt.Sprintf(format, args...)}
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	err := run(ctx, os.Args[1:], os.Stdout, os.Stderr)
	stop()
	os.Exit(report(os.Stderr, err))
}

// run finds the command and runs it.
func run(ctx context.Context, args []string, out, errs io.Writer) error {
	if len(args) == 0 {
		overview(errs)
		return &codedError{exitUsage, ""}
	}
	switch args[0] {
	case "help", "-h", "-help", "--help":
		return help(out, args[1:])
	case "version", "-version", "--version":
		fmt.Fprintln(out, "vorrang", version)
		return nil
	}
	c, rest, found := find(args)
	if !found {
		return usage("there is no command %q%s\nvorrang help lists them", args[0], suggest(args[0]))
	}
	e := newEnv(c, out, errs)
	do := c.setUp(e)
	arguments, err := parseMixed(e.flags, rest)
	if err != nil {
		if errors.Is(err, flag.ErrHelp) {
			return help(out, []string{c.verb})
		}
		return usage("%s%s\nvorrang help %s explains the command", err, meantFlag(e.flags, err), c.verb)
	}
	if err := e.astray(); err != nil {
		return err
	}
	return inFlags(e.flags, do(ctx, arguments))
}

// otherNames are what flags are called elsewhere.
var otherNames = map[string][]string{
	"to": {"env"}, "environment": {"env"}, "target": {"env"}, "steps": {"last"}, "n": {"last"}, "f": {"file", "dir"},
	"force": {"confirm"}, "yes": {"confirm"}, "y": {"confirm"}, "m": {"reason"}, "message": {"reason"},
	"comment": {"reason"}, "dry": {"dry-run"}, "out": {"file"}, "o": {"file"}, "version": {"release"},
}

// meantFlag says which flag of a command was meant, where one was given that it
// does not have.
func meantFlag(flags *flag.FlagSet, err error) string {
	_, typed, unknown := strings.Cut(err.Error(), "flag provided but not defined: -")
	if !unknown {
		return ""
	}
	for _, name := range otherNames[strings.TrimPrefix(typed, "-")] {
		if flags.Lookup(name) != nil {
			return "; here it is -" + name
		}
	}
	best, least := "", 3
	flags.VisitAll(func(f *flag.Flag) {
		if d := distance(typed, f.Name); d < least || len(typed) > 2 && strings.HasPrefix(f.Name, typed) {
			best, least = f.Name, min(d, least)
		}
	})
	if best == "" {
		return ""
	}
	return "; did you mean -" + best + "?"
}

// inFlags names a field of a request that is not valid as the flag that it was
// given by.
func inFlags(flags *flag.FlagSet, err error) error {
	var answered *client.Error
	if errors.As(err, &answered) && answered.Kind() == "fleet" && len(answered.Targets) > 0 && flags.Lookup("target") != nil {
		return &codedError{exitError, fmt.Sprintf("%s\nnext: name it, as in -target %s, or have it done for each in turn: -target all",
			answered.Detail, answered.Targets[0])}
	}
	if !errors.As(err, &answered) || answered.Kind() != "invalid-request" {
		return err
	}
	field, message, named := strings.Cut(answered.Detail, ": ")
	name := strings.ReplaceAll(field, "_", "-")
	if !named || flags.Lookup(name) == nil {
		return err
	}
	return &codedError{exitError, fmt.Sprintf("-%s: %s%s", name, message, strings.TrimSuffix("\n"+answered.Next(), "\n"))}
}

// parseMixed lets flags stand before and after a command's arguments.
func parseMixed(flags *flag.FlagSet, args []string) (arguments []string, err error) {
	for {
		if err := flags.Parse(args); err != nil {
			return nil, err
		}
		if flags.NArg() == 0 {
			return arguments, nil
		}
		arguments, args = append(arguments, flags.Arg(0)), flags.Args()[1:]
	}
}

// report is the one place where errors become words on the terminal and exit
// codes.
func report(errs io.Writer, err error) int {
	p := painter(errs)
	var coded *codedError
	var answered *client.Error
	var files step.Problems
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &coded):
		if coded.text != "" {
			fmt.Fprintln(errs, p.bad("vorrang:"), coded.text)
		}
		return coded.code
	case errors.Is(err, context.Canceled):
		return exitError
	case errors.As(err, &answered):
		return reportAnswer(errs, p, answered)
	case errors.As(err, &files):
		reportFiles(errs, p, files)
		return exitError
	}
	fmt.Fprintln(errs, p.bad("vorrang:"), err)
	return exitError
}

func reportAnswer(errs io.Writer, p paint, answer *client.Error) int {
	switch answer.Kind() {
	case "held", "in-doubt":
		title := answer.Title
		if n := len(answer.Targets); n > 0 { // of a fleet
			title += fmt.Sprintf(": %s cannot take part", plural.Of(n, "target"))
		}
		fmt.Fprintln(errs, p.bad(title))
		if !(gate.Result{Checks: answer.Checks}).Held() { // as where targets of a fleet have no plan
			fmt.Fprintln(errs, answer)
		}
		printLines(errs, answer)
		printChecks(errs, p, answer.Checks, true)
		if answer.Running != nil {
			fmt.Fprintf(errs, "%s vorrang watch %d\n", p.dim("watch it:"), answer.Running.ID)
		}
		if answer.Kind() == "in-doubt" {
			return exitInDoubt
		}
		return exitHeld
	case "invalid-files":
		reportFiles(errs, p, answer.Errors)
		return exitError
	}
	fmt.Fprintln(errs, p.bad("vorrang:"), answer.Detail)
	printLines(errs, answer)
	for i, r := range answer.Remedies {
		fmt.Fprintln(errs, p.dim(map[bool]string{true: "next:", false: "or:  "}[i == 0]), r.Text(advice.Command))
	}
	return exitError
}

// printLines lists what is not as it should be, a line each.
func printLines(errs io.Writer, answer *client.Error) {
	for i, line := range answer.Differences {
		if i == mostLines {
			fmt.Fprintf(errs, "  … and %d more\n", len(answer.Differences)-i)
			break
		}
		fmt.Fprintln(errs, "  "+line)
	}
}

// mostLines is how many lines of a list a terminal shows.
const mostLines = 40

func reportFiles(errs io.Writer, p paint, problems step.Problems) {
	for _, problem := range problems {
		fmt.Fprint(errs, problem.Text())
	}
	fmt.Fprintln(errs, p.bad(fmt.Sprintf("vorrang: %s; nothing was changed", plural.Of(len(problems), "problem"))))
}
