package main

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"os/user"
	"path/filepath"
	"strings"

	"vorrang/client"
	"vorrang/core/lane"
	"vorrang/internal/visible"
)

const defaultServer = "http://127.0.0.1:7340"

// env is what a command works with.
type env struct {
	out, errs io.Writer
	lines     *bufio.Reader // of the standard input; nil until one is read
	paint     paint
	flags     *flag.FlagSet
	modes     []mode
	twoNames  bool // -to and -env name the same

	// flags that every command has
	server *string
	json   *bool
	lane   *string
}

func newEnv(c command, out, errs io.Writer) *env {
	e := &env{out: out, errs: errs, paint: painter(out), flags: flag.NewFlagSet(c.verb, flag.ContinueOnError)}
	e.flags.SetOutput(io.Discard)
	e.flags.Usage = func() {}
	e.server = e.flags.String(
		"server",
		cmp.Or(os.Getenv("VORRANG_SERVER"), defaultServer),
		"the service's `address` (VORRANG_SERVER)",
	)
	e.json = e.flags.Bool("json", false, "print JSON")
	return e
}

// laneFlag adds -lane.
func (e *env) laneFlag() {
	e.lane = e.flags.String(
		"lane",
		os.Getenv("VORRANG_LANE"),
		"the `lane`; without it VORRANG_LANE, ./lane.yaml, or the only lane there is",
	)
}

// bare is a client without a token.
func (e *env) bare() *client.Client {
	c := client.New(*e.server, "", actor())
	if !*e.json { // which escapes what a terminal would act on
		c.Shown = visible.In
	}
	return c
}

// client is a client with the token of VORRANG_TOKEN, or the one that login
// keeps.
func (e *env) client() *client.Client {
	c := e.bare()
	if c.Token = os.Getenv("VORRANG_TOKEN"); c.Token == "" {
		tokens, err := readTokens()
		if err != nil {
			fmt.Fprintln(e.errs, e.paint.warn("vorrang:"), err)
		}
		c.Token = tokens[c.Server]
	}
	c.Password = func() (string, error) { return readSecret(e, "your password") }
	return c
}

// actor is who is in the ledger where the administrator's token is used: VORRANG_ACTOR, or the user of this
// machine.
func actor() string {
	if name := os.Getenv("VORRANG_ACTOR"); name != "" {
		return name
	}
	name := os.Getenv("USER")
	if u, err := user.Current(); err == nil {
		name = u.Username
	}
	host, _ := os.Hostname() // without it the name alone will do
	return strings.TrimSuffix(name+"@"+host, "@")
}

// whichLane finds the lane that is meant.
func (e *env) whichLane(ctx context.Context, c *client.Client) (string, error) {
	if *e.lane != "" {
		return *e.lane, nil
	}
	if text, err := os.ReadFile("lane.yaml"); err == nil {
		l, err := lane.Parse("lane.yaml", text, nil) // the service knows the engines
		return l.Name, err
	}
	lanes, err := c.LaneNames(ctx)
	if err != nil {
		return "", err
	}
	var names []string
	for _, l := range lanes.Lanes {
		names = append(names, l.Lane)
	}
	switch len(names) {
	case 0:
		return "", usage("no lane is declared yet; vorrang declare -file lane.yaml declares one")
	case 1:
		return names[0], nil
	}
	return "", usage("say which lane: -lane %s", strings.Join(names, " or -lane "))
}

// spot is one environment of a lane, and a client to ask about it.
type spot struct {
	*client.Client
	lane, environment string
}

// alone returns what runs a command that takes no arguments and is about no lane.
func (e *env) alone(do func(ctx context.Context, c *client.Client) error) func(context.Context, []string) error {
	return func(ctx context.Context, args []string) error {
		if err := e.noArguments(args); err != nil {
			return err
		}
		return do(ctx, e.client())
	}
}

// onLane adds -lane, and returns what runs a command on that lane.
func (e *env) onLane(do func(ctx context.Context, at spot, args []string) error) func(context.Context, []string) error {
	e.laneFlag()
	return func(ctx context.Context, args []string) error {
		c := e.client()
		lane, err := e.whichLane(ctx, c)
		if err != nil {
			return err
		}
		return do(ctx, spot{Client: c, lane: lane}, args)
	}
}

// toFlag names the environment in commands that lead to one.
const toFlag = "to"

// onEnvironment adds -lane and the flag that names the environment, and returns
// what runs a command that takes no arguments on that environment.
func (e *env) onEnvironment(
	flagName string, do func(ctx context.Context, at spot) error,
) func(context.Context, []string) error {
	onPlace := e.onPlace(flagName, func(ctx context.Context, at spot, _ []string) error { return do(ctx, at) })
	return func(ctx context.Context, args []string) error {
		if err := e.noArguments(args); err != nil {
			return err
		}
		return onPlace(ctx, args)
	}
}

// onPlace is onEnvironment for a command that takes arguments.
func (e *env) onPlace(
	flagName string, do func(ctx context.Context, at spot, args []string) error,
) func(context.Context, []string) error {
	environment := e.flags.String(flagName, "", "the `environment`")
	if flagName == toFlag {
		e.flags.StringVar(environment, "env", "", "the same as -to, since other commands say -env")
		e.twoNames = true
	}
	target := e.flags.String("target", "", "one `target` of a fleet, or all of them in turn: all")
	onLane := e.onLane(func(ctx context.Context, at spot, args []string) error {
		at.environment = *environment
		if *target == lane.AllTargets {
			return e.onEachTarget(ctx, at, func(ctx context.Context, at spot) error { return do(ctx, at, args) })
		}
		at.environment = lane.PlaceName(*environment, *target)
		return do(ctx, at, args)
	})
	return func(ctx context.Context, args []string) error {
		if *environment == "" {
			return usage("say which environment: -%s NAME; vorrang status lists them", flagName)
		}
		return onLane(ctx, args)
	}
}

// targetFlag adds -target to a command that can do without an environment. What it returns is the place that
// is meant, for the one that is named.
func (e *env) targetFlag(explain string) func(environment string) (string, error) {
	target := e.flags.String("target", "", explain)
	return func(environment string) (string, error) {
		if *target != "" && environment == "" {
			return "", usage("say of which environment the target is: -env NAME")
		}
		return lane.PlaceName(environment, *target), nil
	}
}

// print writes a value as JSON where -json asks for it, and as text otherwise.
func (e *env) print(value any, text func()) error {
	if !*e.json {
		text()
		return nil
	}
	encoder := json.NewEncoder(e.out)
	encoder.SetIndent("", "  ")
	return encoder.Encode(value)
}

// noArguments refuses arguments of a command that has only flags, and says which
// flag takes an environment, since that is what is often left without one.
func (e *env) noArguments(args []string) error {
	if len(args) == 0 {
		return nil
	}
	for _, name := range []string{"to", "env"} {
		if e.flags.Lookup(name) != nil {
			return usage("%q is not expected here; -%s names the environment, as in -%s %s", args[0], name, name, args[0])
		}
	}
	return usage("%q is not expected here", args[0])
}

// stepsFolder is the folder that -dir names.
func stepsFolder(dir string) (string, error) {
	info, err := os.Stat(dir)
	if err != nil || !info.IsDir() {
		return "", fmt.Errorf("there is no step folder %s; -dir names another", filepath.Clean(dir))
	}
	return dir, nil
}
