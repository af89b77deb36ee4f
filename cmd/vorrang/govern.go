package main

import (
	"context"
	"encoding/xml"
	"fmt"
	"os"
	"strconv"
	"time"

	"vorrang/core/gate"
	"vorrang/internal/advice"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

func approveCommand() command {
	return command{
		verb: "approve", does: "approves of a release on an environment, as its plan is now, or of ways back",
		explain: "Read the SQL first: vorrang preview -to E -release R. An approval is for exactly that plan, and " +
			"lapses when it\n" +
			"changes. The person who asks for the promotion cannot approve it. -withdraw takes your approval back.\n" +
			"A way back that came after its step was approved needs an approval of its own: -ways-back approves of " +
			"those of the\n" +
			"steps in place, as vorrang preview -env E -back-to N shows them.",
		example: "vorrang approve -env production -release 2026.11\nvorrang approve -env production -ways-back",
		setUp: func(e *env) func(context.Context, []string) error {
			release := e.flags.String("release", "", "the `release`")
			waysBack := e.flags.Bool("ways-back", false, "the ways back of the steps in place")
			note := e.flags.String("note", "", "what you checked, in your `words`")
			withdraw := e.flags.Bool("withdraw", false, "take your approval back")
			e.mode("withdraw", nil, "release", "ways-back")
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
		explain: "It is good for 24 hours, for one release (or for loose steps), and is kept in the target's ledger with " +
			"the reason.\n" +
			"Nobody can waive what says that the history is not right, nor a missing release or approval.",
		example: `vorrang waive soak -env production -release 2026.11.1 -reason "the fix of the pilot boat's dues cannot wait"`,
		setUp: func(e *env) func(context.Context, []string) error {
			release := e.flags.String("release", "", "the `release` that is to be promoted; without it loose steps")
			reason := e.flags.String("reason", "", "why, in your `words`")
			return e.onPlace("env", func(ctx context.Context, at spot, args []string) error {
				if len(args) != 1 || *reason == "" {
					return usage("vorrang waive CHECK -env ENVIRONMENT -reason \"…\"; vorrang gate names the checks")
				}
				waiver, err := at.Waive(ctx, at.lane, at.environment, args[0], *release, *reason)
				if err != nil {
					return err
				}
				return e.print(waiver, func() {
					fmt.Fprintf(
						e.out,
						"%s is waived on %s/%s for one deployment, until %s UTC\n",
						waiver.Check, at.lane, at.environment, moment(waiver.Until),
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
		example: "vorrang scheduled\nvorrang scheduled -env production -search held\nvorrang scheduled -env production -drop 3",
		setUp: func(e *env) func(context.Context, []string) error {
			environment := e.flags.String("env", "", "only those to this `environment`; with -drop, that of the one to be dropped")
			drop := e.flags.Int64("drop", 0, "take the scheduled promotion with this `number` back")
			query := e.listByNumber("release, step, maker, state or message")
			e.mode("drop", nil)
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if err := e.noArguments(args); err != nil {
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
				list, err := at.Scheduled(ctx, at.lane, *environment, *query)
				if err != nil {
					return err
				}
				return e.print(list, func() { printScheduled(e, list, query.Search == "" && *environment == "") })
			})
		},
	}
}

func printScheduled(e *env, list *api.ScheduledList, all bool) {
	switch {
	case len(list.Scheduled) == 0 && !all:
		fmt.Fprintln(e.out, "there is no such scheduled promotion")
		return
	case len(list.Scheduled) == 0:
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
		message := k.Message
		if k.Deployment != 0 {
			message = fmt.Sprintf("deployment %d", k.Deployment)
		}
		t.add(
			plain(strconv.FormatInt(k.ID, 10)), plain(moment(k.At)), plain(k.Environment), plain(what),
			plain(k.Actor), state, plain(message),
		)
	}
	t.print(e.out, e.paint)
	e.older(list.Next)
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
		if check.Verdict == gate.Hold && answer.Gate != gate.WordOf(false) {
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
