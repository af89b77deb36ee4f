package main

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"vorrang/client"
	"vorrang/core/gate"
	"vorrang/internal/advice"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

func approveCommand() command {
	return command{
		verb: "approve", does: "approves of a release on an environment, as its plan is now, or of ways back",
		explain: "Look at the SQL first: vorrang preview -to E -release R. An approval is for exactly that plan, and lapses when it\n" +
			"changes. Whoever asks for the promotion cannot approve it. -withdraw takes your approval back.\n" +
			"A way back that came after its step was approved needs an approval of its own: -ways-back approves of those of the\n" +
			"steps in place, as vorrang preview -env E -back-to N shows them.",
		example: "vorrang approve -env production -release 2026.11\nvorrang approve -env production -ways-back",
		setUp: func(e *env) func(context.Context, []string) error {
			release := e.flags.String("release", "", "the `release`")
			waysBack := e.flags.Bool("ways-back", false, "the ways back of the steps in place")
			note := e.flags.String("note", "", "what you looked at, in your `words`")
			withdraw := e.flags.Bool("withdraw", false, "take your approval back")
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				if (*release == "") != *waysBack {
					return usage("name the release: -release R; or say -ways-back")
				}
				what := "release " + *release
				if *waysBack {
					what = "ways back"
				}
				if *withdraw {
					taken, err := at.WithdrawApproval(ctx, at.lane, at.environment, *release)
					if err != nil {
						return err
					}
					return e.print(taken, func() {
						fmt.Fprintf(
							e.out,
							"your approval of %s for %s/%s is taken back\n",
							what, at.lane, at.environment,
						)
					})
				}
				approved, err := at.Approve(ctx, at.lane, at.environment, *release, *note)
				if err != nil {
					return err
				}
				return e.print(approved, func() {
					if *waysBack {
						fmt.Fprintf(
							e.out,
							"the ways back of %s on %s/%s are approved as they are now\n",
							plural.Of(len(approved.Steps), "step"),
							at.lane, at.environment,
						)
						return
					}
					fmt.Fprintf(
						e.out,
						"release %s is approved for %s/%s, with %s to be applied\n",
						*release, at.lane, at.environment,
						plural.Of(len(approved.Steps), "step"),
					)
					printChecks(e.out, e.paint, []gate.Check{approved.Check}, false)
				})
			})
		},
	}
}

func waiveCommand() command {
	return command{
		verb: "waive", takes: "CHECK", does: "lets a check that holds pass once, for the next deployment",
		explain: "It is good for 24 hours, for one release (or for loose steps), and stands in the target's ledger with the reason.\n" +
			"Nobody can waive what says that the history is not right, nor a missing release or approval.",
		example: `vorrang waive soak -env production -release 2026.11.1 -reason "the fix of the pilot boat's dues cannot wait"`,
		setUp: func(e *env) func(context.Context, []string) error {
			environment := e.flags.String("env", "", "the `environment`")
			release := e.flags.String("release", "", "the `release` that is to be promoted; without it loose steps")
			reason := e.flags.String("reason", "", "why, in your `words`")
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if len(args) != 1 || *environment == "" || *reason == "" {
					return usage("vorrang waive CHECK -env ENVIRONMENT -reason \"…\"; vorrang gate names the checks")
				}
				waiver, err := at.Waive(ctx, at.lane, *environment, args[0], *release, *reason)
				if err != nil {
					return err
				}
				return e.print(waiver, func() {
					fmt.Fprintf(
						e.out,
						"%s is waived on %s/%s for one deployment, until %s UTC\n",
						waiver.Check, at.lane, *environment, moment(waiver.Until),
					)
				})
			})
		},
	}
}

func scheduledCommand() command {
	return command{
		verb: "scheduled", does: "lists the promotions that wait for their time, and what became of others",
		explain: "vorrang promote -at TIME schedules one. -drop N with -env takes one back.",
		example: "vorrang scheduled\nvorrang scheduled -env production -drop 3",
		setUp: func(e *env) func(context.Context, []string) error {
			environment := e.flags.String("env", "", "the `environment` of the one to be dropped")
			drop := e.flags.Int64("drop", 0, "take the scheduled promotion with this `number` back")
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if err := noArguments(args); err != nil {
					return err
				}
				if *drop != 0 {
					if *environment == "" {
						return usage("say of which environment: -env NAME")
					}
					if err := at.DropScheduled(ctx, at.lane, *environment, *drop); err != nil {
						return err
					}
					fmt.Fprintf(e.out, "the scheduled promotion %d is dropped\n", *drop)
					return nil
				}
				list, err := at.Scheduled(ctx, at.lane)
				if err != nil {
					return err
				}
				return e.print(list, func() { printScheduled(e, list) })
			})
		},
	}
}

func printScheduled(e *env, list *api.ScheduledList) {
	if len(list.Scheduled) == 0 {
		fmt.Fprintln(e.out, "nothing is scheduled; vorrang promote -at TIME schedules a promotion")
		return
	}
	t := &table{heads: []string{"NUMBER", "AT (UTC)", "TO", "WHAT", "BY", "STATE", ""}}
	for _, k := range list.Scheduled {
		what := "loose steps"
		if k.Release != "" {
			what = "release " + k.Release
		}
		state := cell{k.State, nil}
		if k.State == "held" || k.State == "failed" || k.State == "missed" {
			state.paint = e.paint.bad
		}
		says := k.Says
		if k.Deployment != 0 {
			says = fmt.Sprintf("deployment %d", k.Deployment)
		}
		t.add(
			plain(strconv.FormatInt(k.ID, 10)), plain(moment(k.At)), plain(k.Environment), plain(what),
			plain(k.Actor), state, plain(says),
		)
	}
	t.print(e.out, e.paint)
}

// writeGateJUnit writes a gate's answer as a suite with a case for every check.
// What is not asked is left out.
func writeGateJUnit(path, lane, environment string, answer *api.GateAnswer) error {
	suite := junitSuite{Name: "gate of " + lane + "/" + environment}
	for _, check := range answer.Checks {
		if check.Verdict == gate.NotAsked {
			continue
		}
		test := junitCase{Class: suite.Name, Name: string(check.ID)}
		if check.Verdict == gate.Hold {
			test.Failure = &junitBad{
				Message: check.Evidence,
				Text:    check.Evidence + "\n→ " + advice.Text(check.Remedies) + "\n",
			}
			suite.Failures++
		}
		suite.Cases = append(suite.Cases, test)
	}
	suite.Tests = len(suite.Cases)
	return writeXML(path, junitSuites{Suites: []junitSuite{suite}})
}

func writeXML(path string, all junitSuites) error {
	text, err := xml.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, append([]byte(xml.Header), append(text, '\n')...), 0o644)
}

// awaitEvery is how long await sleeps between two looks.
const awaitEvery = time.Second

func awaitCommand() command {
	return command{
		verb: "await", does: "waits until an environment has a release, or a step: for an application's start-up",
		explain: "Exit code 0 once it is there and nothing runs, 3 if it is not there in time. A role that may read is enough.\n" +
			"The service may be away for a while, and the release may not be cut yet; only what the service refuses ends the wait.",
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
	said, known := "", false // known: the lane has the environment, and one may read it
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
		case known && errors.As(err, &answered) && (answered.Status == http.StatusNotFound || answered.Status == http.StatusConflict):
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
		if within.Err() == nil && missing != said && !*e.json {
			fmt.Fprintln(e.errs, e.paint.dim(missing))
			said = missing
		}
		select {
		case <-within.Done():
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err := e.print(map[string]any{"there": false, "missing": said}, func() {}); err != nil {
				return err
			}
			return &codedError{exitHeld, fmt.Sprintf("%s/%s is not there yet: %s", at.lane, at.environment, said)}
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
			(check.ID == gate.Quiet || check.ID == gate.NothingInDoubt || check.ID == gate.LedgerIntact || check.ID == gate.KnownDatabase) {
			return false, check.Evidence, nil
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

func hooksCommand() command {
	return command{
		verb: "hooks", does: "lists the programs that are told of what happens, and what was sent to them",
		example: "vorrang hooks",
		setUp: func(e *env) func(context.Context, []string) error {
			limit := e.flags.Int("limit", 20, "the newest so `many` deliveries")
			return e.alone(func(ctx context.Context, c *client.Client) error {
				hooks, err := c.Hooks(ctx)
				if err != nil {
					return err
				}
				deliveries, err := c.Deliveries(ctx, "", *limit)
				if err != nil {
					return err
				}
				return e.print(
					map[string]any{"hooks": hooks.Hooks, "deliveries": deliveries.Deliveries},
					func() { printHooks(e, hooks, deliveries) },
				)
			})
		},
	}
}

func printHooks(e *env, hooks *api.Hooks, deliveries *api.Deliveries) {
	if len(hooks.Hooks) == 0 {
		fmt.Fprintln(
			e.out,
			"nobody is told of anything; vorrang hook NAME -url … -secret env:NAME -events held,failed begins",
		)
		return
	}
	t := &table{heads: []string{"HOOK", "URL", "SECRET", "LANE", "EVENTS"}}
	for _, h := range hooks.Hooks {
		lane := h.Lane
		if lane == "" {
			lane = "all"
		}
		t.add(plain(h.Name), plain(h.URL), plain(h.Secret), plain(lane), plain(strings.Join(h.Events, ", ")))
	}
	t.print(e.out, e.paint)
	if len(deliveries.Deliveries) == 0 {
		return
	}
	fmt.Fprintln(e.out)
	t = &table{heads: []string{"AT (UTC)", "HOOK", "EVENT", "STATE", "TRIES", ""}}
	for _, d := range deliveries.Deliveries {
		state := cell{d.State, e.paint.good}
		says := d.Says
		if d.State != "delivered" {
			state.paint = e.paint.warn
		}
		if d.NextAt != nil && d.Tries > 0 {
			says += "; next try at " + moment(*d.NextAt)
		}
		t.add(plain(moment(d.MadeAt)), plain(d.Hook), plain(d.Type), state, plain(strconv.Itoa(d.Tries)), plain(says))
	}
	t.print(e.out, e.paint)
}

func hookCommand() command {
	return command{
		verb: "hook", takes: "NAME", does: "tells a program of what happens, as signed CloudEvents",
		explain: "The events are held, approved, started, failed and done. The secret that signs them is not kept: the service reads\n" +
			"it where env:NAME or file:PATH says. An URL that is a secret itself is given the same way. docs/pipelines.md says\n" +
			"how to check a signature.",
		example: "vorrang hook chat -url http://127.0.0.1:9000/vorrang -secret env:CHAT_SECRET -events held,failed -lane harbour\nvorrang hook chat -remove",
		setUp: func(e *env) func(context.Context, []string) error {
			url := e.flags.String("url", "", "the `address`, or env:NAME or file:PATH")
			secret := e.flags.String("secret", "", "where the secret is: env:`NAME` or file:PATH")
			events := e.flags.String(
				"events",
				"held,approved,started,failed,done",
				"of which `events`, divided by commas",
			)
			lane := e.flags.String("lane", "", "only of this `lane`")
			remove := e.flags.Bool("remove", false, "remove the hook")
			return func(ctx context.Context, args []string) error {
				if len(args) != 1 {
					return usage("name the hook: vorrang hook NAME -url … -secret env:NAME")
				}
				c := e.client()
				if *remove {
					if err := c.RemoveHook(ctx, args[0]); err != nil {
						return err
					}
					fmt.Fprintf(e.out, "hook %s is removed\n", args[0])
					return nil
				}
				if *url == "" || *secret == "" {
					return usage("-url and -secret are both needed")
				}
				hook, err := c.PutHook(
					ctx,
					api.Hook{Name: args[0], URL: *url, Secret: *secret, Events: list(*events), Lane: *lane},
				)
				if err != nil {
					return err
				}
				return e.print(
					hook,
					func() { fmt.Fprintf(e.out, "hook %s is told of: %s\n", hook.Name, strings.Join(hook.Events, ", ")) },
				)
			}
		},
	}
}
