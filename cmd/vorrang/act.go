package main

import (
	"context"
	"fmt"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/plan"
	"vorrang/service/api"
)

func promoteCommand() command {
	return command{
		verb: "promote", does: "asks the gate, and then applies what is pending, with live progress",
		explain: "The deployment goes on in the service when the client goes away; vorrang watch shows it again.\n" +
			"When a step fails, the earlier ones stay (stop), or their ways back run, newest first (back-out).\n" +
			"Exit code 3 if the gate is held, 4 if a step failed.",
		example: "vorrang promote -to development\nvorrang promote -to staging -through 7 -shown 3f9a5c01be77\n" +
			"vorrang promote -to production -release 2026.11 -on-failure back-out\nvorrang promote -to production -release " +
			"2026.11 -at 2026-11-28T22:00",
		setUp: func(e *env) func(context.Context, []string) error {
			through := e.flags.String("through", "", "the last `step` to apply; without it all that is pending")
			onFailure := e.flags.String(
				"on-failure", "",
				"stop or back-out: the `policy` when a step fails; without it the lane's",
			)
			release := e.flags.String("release", "", "the `release` to apply; without it loose steps")
			atTime := e.flags.String("at", "", "not now, but at this `time`, if the gate is clear then")
			whole := e.flags.Bool(
				"whole", false,
				"all steps in one transaction, all or nothing; refused where a step cannot",
			)
			shown := e.shownFlag()
			return e.onEnvironment("to", func(ctx context.Context, at spot) error {
				how := client.Promotion{
					Through:   *through,
					Release:   *release,
					OnFailure: plan.Policy(*onFailure),
					Whole:     *whole,
					Shown:     *shown,
				}
				if *atTime != "" {
					var err error
					if how.At, err = parseMoment("at", *atTime); err != nil {
						return err
					}
				}
				promoted, err := at.Promote(ctx, at.lane, at.environment, how)
				if err != nil {
					return err
				}
				if k := promoted.Scheduled; k != nil {
					return e.print(promoted, func() {
						fmt.Fprintf(
							e.out,
							"promotion %d to %s/%s is scheduled for %s UTC; vorrang scheduled shows what becomes of it\n",
							k.ID, at.lane, at.environment, moment(k.At),
						)
						if (gate.Result{Checks: promoted.Gate}).Held() {
							fmt.Fprintln(e.out, e.paint.warn("its gate is held now, and has to be clear by then:"))
							printChecks(e.out, e.paint, promoted.Gate, true)
						}
					})
				}
				return finish(
					ctx, e, at.Client, promoted,
					fmt.Sprintf("%s/%s: nothing to do; %s", at.lane, at.environment, nothingWhy(promoted)),
				)
			})
		},
	}
}

// nothingWhy says why there is nothing to do.
func nothingWhy(promoted *api.Promoted) string {
	if promoted.Steps == 0 {
		return "the catalogue is empty; vorrang submit sends the first steps"
	}
	return "every step is there"
}

// shownFlag binds a deployment to the plan that was shown.
func (e *env) shownFlag() *string {
	return e.flags.String(
		"shown", "",
		"only if the plan is still the one that vorrang preview showed, by the `digest` that it ends with",
	)
}

// ways are the flags that say how far a rollback goes.
type ways struct {
	last       *int
	to         *string
	deployment *int64
	release    *string
	toName     string
}

func wayFlags(e *env, toName string) ways {
	return ways{
		last:       e.flags.Int("last", 0, "roll back the last so `many` steps"),
		to:         e.flags.String(toName, "", "roll back everything above this `step`; 0 is everything"),
		deployment: e.flags.Int64("deployment", 0, "roll back what this `deployment` applied"),
		release:    e.flags.String(releaseName(toName), "", "roll back everything that is not in this `release`"),
		toName:     toName,
	}
}

// releaseName is the flag of a rollback's release; preview has -release for
// promotions.
func releaseName(toName string) string {
	if toName == "to" {
		return "release"
	}
	return "back-release"
}

func (w ways) way() client.Way {
	return client.Way{Last: *w.last, To: *w.to, Deployment: *w.deployment, Release: *w.release}
}

func (w ways) check() error {
	given := 0
	for _, is := range []bool{*w.last != 0, *w.to != "", *w.deployment != 0, *w.release != ""} {
		if is {
			given++
		}
	}
	if given != 1 || *w.last < 0 {
		return usage(
			"say how far, in one way: -last N, -%s STEP, -deployment D or -%s R",
			w.toName, releaseName(w.toName),
		)
	}
	return nil
}

func rollbackCommand() command {
	return command{
		verb: "rollback", does: "runs ways back, newest first",
		explain: "Refused before anything runs if a step has no way back. vorrang preview -env E -last N shows the " +
			"SQL first.",
		example: "vorrang rollback -env development -last 1\nvorrang rollback -env production -to 11 -confirm production",
		setUp: func(e *env) func(context.Context, []string) error {
			way := wayFlags(e, "to")
			confirm := e.flags.String(
				"confirm", "",
				"the environment's `name`, typed; needed where it is not disposable",
			)
			shown := e.shownFlag()
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				if err := way.check(); err != nil {
					return err
				}
				back := way.way()
				back.Shown = *shown
				promoted, err := at.Rollback(ctx, at.lane, at.environment, back, *confirm)
				if err != nil {
					return err
				}
				return finish(
					ctx, e, at.Client, promoted,
					fmt.Sprintf("%s/%s: nothing to roll back", at.lane, at.environment),
				)
			})
		},
	}
}

func rebuildCommand() command {
	return command{
		verb: "rebuild", does: "empties a disposable environment and applies every step",
		explain: "Everything in the application's schemas is dropped, rows included. Without -confirm it only says what " +
			"that is.\n" +
			"Refused where the environment is not declared disposable, or shares its database with one that is not.",
		example: "vorrang rebuild -env development -confirm development",
		setUp: func(e *env) func(context.Context, []string) error {
			confirm := e.flags.String("confirm", "", "the environment's `name`, typed")
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				promoted, err := at.Rebuild(ctx, at.lane, at.environment, *confirm)
				if err != nil {
					return err
				}
				return finish(ctx, e, at.Client, promoted, "")
			})
		},
	}
}

// finish follows a deployment to its end.
func finish(ctx context.Context, e *env, c *client.Client, promoted *api.Promoted, nothing string) error {
	if promoted.Nothing {
		return e.print(promoted, func() {
			for _, note := range promoted.Settled {
				fmt.Fprintln(e.out, note)
			}
			fmt.Fprintln(e.out, nothing)
		})
	}
	if promoted.Fleet != nil {
		return finishFleet(ctx, e, c, promoted.Fleet)
	}
	d := promoted.Deployment
	if !*e.json {
		if err := follow(ctx, e, c, d, mostEffect); err != nil {
			return leftRunning(ctx, e, d, err)
		}
		return outcomeExit(ctx, c, d.ID)
	}
	err := c.Follow(ctx, d.ID, 0, func(deploy.Event) error { return nil })
	if err != nil {
		return leftRunning(ctx, e, d, err)
	}
	ended, err := c.Deployment(ctx, d.ID)
	if err != nil {
		return err
	}
	if err := e.print(ended, nil); err != nil {
		return err
	}
	return outcomeExit(ctx, c, d.ID)
}

// leftRunning says what becomes of a deployment whose client goes away.
func leftRunning(ctx context.Context, e *env, d *api.Deployment, err error) error {
	if ctx.Err() != nil {
		fmt.Fprintf(e.errs, "\ndeployment %d goes on in the service; vorrang watch %d shows it\n", d.ID, d.ID)
	}
	return err
}

// outcomeExit turns a deployment's outcome into an exit code.
func outcomeExit(ctx context.Context, c *client.Client, id int64) error {
	d, err := c.Deployment(ctx, id)
	if err != nil {
		return err
	}
	switch d.Outcome {
	case deploy.Done, deploy.Running:
		return nil
	case deploy.Cancelled:
		if result := (gate.Result{Checks: d.Gate}); result.Held() { // it closed before the first statement
			return gateExit(result)
		}
	case deploy.Failed, deploy.BackedOut, deploy.Interrupted:
	}
	return &codedError{exitFailed, ""}
}

func cancelCommand() command {
	return command{
		verb: "cancel", takes: "DEPLOYMENT", does: "stops a running deployment",
		explain: "The running statement is cancelled and its step rolled back; what was applied before stays.\n" +
			"Of a deployment to a fleet, those of its targets that are under way are cancelled, and no further one begins.",
		example: "vorrang cancel 12\nvorrang cancel F3",
		setUp: func(e *env) func(context.Context, []string) error {
			return func(ctx context.Context, args []string) error {
				if fleet, is := fleetNumber(args); is {
					return cancelFleet(ctx, e, fleet)
				}
				id, err := oneDeployment("cancel", args)
				if err != nil {
					return err
				}
				c := e.client()
				if _, err := c.Cancel(ctx, id); err != nil {
					return err
				}
				if err := c.Follow(ctx, id, 0, func(deploy.Event) error { return nil }); err != nil {
					return err
				}
				ended, err := c.Deployment(ctx, id)
				if err != nil {
					return err
				}
				return e.print(ended, func() {
					fmt.Fprintf(
						e.out,
						"deployment %d %s; vorrang status -lane %s -env %s says where that leaves it\n",
						id, ended.Outcome, ended.Lane, ended.Environment,
					)
				})
			}
		},
	}
}
