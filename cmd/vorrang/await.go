package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"vorrang/client"
	"vorrang/core/gate"
	"vorrang/internal/plural"
)

func awaitCommand() command {
	return command{
		verb: "await", does: "waits until an environment has a release, or a step: for an application's start-up",
		explain: "Exit code 0 once it is there and nothing runs, 3 if it is not there in time. A role that may read " +
			"is enough.\n" +
			"The service may be away for a while, and the release may not be cut yet; only what the service refuses " +
			"ends the wait.",
		example: "vorrang await -env production -release 2026.11 -timeout 5m",
		setUp: func(e *env) func(context.Context, []string) error {
			release := e.flags.String("release", "", "the `release` that the environment must have")
			through := e.flags.String("through", "", "or the `step` up to which it must have all")
			timeout := e.flags.Duration("timeout", 5*time.Minute, "how long to wait")
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				if (*release == "") == (*through == "") {
					return usage("say what to wait for: -release R, or -through STEP")
				}
				within, cancel := context.WithTimeout(ctx, *timeout)
				defer cancel()
				return await(ctx, within, e, at, *release, *through)
			})
		},
	}
}

func await(ctx, within context.Context, e *env, at spot, release, through string) error {
	last, known := "", false // known: the lane has the environment, and one may read it
	for {
		there, missing, err := isThere(within, at, release, through)
		var answered *client.Error
		if !known && errors.As(err, &answered) {
			_, asked := at.Status(within, at.lane, at.environment, "none")
			if known = asked == nil; !known {
				err = asked
			}
		}
		switch {
		case known && errors.As(err, &answered) &&
			(answered.Status == http.StatusNotFound || answered.Status == http.StatusConflict):
			missing = answered.Detail // it is not cut, or not submitted, yet
		case errors.As(err, &answered) && answered.Status < 500:
			return err
		case ctx.Err() != nil:
			return ctx.Err()
		case err == nil && there:
			return e.print(map[string]any{"there": true}, func() { fmt.Fprintln(e.out, missing) })
		case err != nil && within.Err() == nil:
			missing = strings.SplitN(err.Error(), "\n", 2)[0]
		}
		if within.Err() == nil && missing != last && !*e.json {
			fmt.Fprintln(e.errs, e.paint.dim(missing))
			last = missing
		}
		select {
		case <-within.Done():
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err := e.print(map[string]any{"there": false, "missing": last}, func() {}); err != nil {
				return err
			}
			return &codedError{exitHeld, fmt.Sprintf("%s/%s is not there yet: %s", at.lane, at.environment, last)}
		case <-time.After(awaitEvery):
		}
	}
}

// isThere reports whether an environment has a release, or every step up to one,
// and says what it has or lacks.
func isThere(ctx context.Context, at spot, release, through string) (bool, string, error) {
	preview, err := at.Preview(ctx, at.lane, at.environment, client.Promotion{Release: release, Through: through})
	if err != nil {
		return false, "", err
	}
	what := "release " + release
	if release == "" {
		what = "every step up to " + through
	}
	for _, check := range preview.Gate {
		if check.Verdict == gate.Hold &&
			(check.ID == gate.Quiet || check.ID == gate.NothingInDoubt || check.ID == gate.LedgerIntact ||
				check.ID == gate.KnownDatabase) {
			return false, check.Evidence, nil
		}
	}
	for _, p := range preview.Fleet {
		if p.Message != "" {
			return false, fmt.Sprintf("%s of %s: %s", gate.Some(p.Targets), at.environment, p.Message), nil
		}
	}
	if n := len(preview.Actions); n > 0 {
		return false, fmt.Sprintf(
			"%s of %s %s missing on %s",
			plural.Of(n, "step"),
			what,
			map[bool]string{true: "is", false: "are"}[n == 1],
			at.environment,
		), nil
	}
	return true, fmt.Sprintf("%s/%s has %s", at.lane, at.environment, what), nil
}
