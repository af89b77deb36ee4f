package main

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/internal/advice"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

func gateCommand() command {
	return command{
		verb: "gate", does: "asks the checks that a promotion must meet, and shows their evidence",
		explain: "Exit code 0 if the gate is clear, 3 if it is held, 5 if a step is in doubt.",
		example: "vorrang gate -to production -release 2026.11\nvorrang gate -to production -release 2026.11 -junit gate.xml",
		setUp: func(e *env) func(context.Context, []string) error {
			junit := e.flags.String("junit", "", "write the checks to a `file` as JUnit XML too")
			release := e.flags.String("release", "", "the `release` that is to be promoted; without it loose steps")
			return e.onEnvironment("to", func(ctx context.Context, at spot) error {
				answer, err := at.Gate(ctx, at.lane, at.environment, *release)
				if err != nil {
					return err
				}
				if *junit != "" {
					if err := writeGateJUnit(*junit, at.lane, at.environment, answer); err != nil {
						return err
					}
				}
				if err := e.print(answer, func() { printGate(e, at.lane, at.environment, answer) }); err != nil {
					return err
				}
				if answer.Gate == gate.WordOf(false) { // what holds for some targets of a fleet may be tolerated
					return nil
				}
				return gateExit(gate.Result{Checks: answer.Checks})
			})
		},
	}
}

// gateExit is the exit code for a gate that is held.
func gateExit(result gate.Result) error {
	if result.InDoubt() {
		return &codedError{exitInDoubt, ""}
	}
	return &codedError{exitHeld, ""}
}

func printGate(e *env, lane, environment string, answer *api.GateAnswer) {
	word := e.paint.good("clear")
	if answer.Gate != "clear" {
		word = e.paint.bad("held")
	}
	fmt.Fprintf(e.out, "the gate of %s/%s is %s\n", lane, environment, word)
	printChecks(e.out, e.paint, answer.Checks, false)
	for _, note := range answer.Notes {
		fmt.Fprintln(e.out, e.paint.warn("! "+note))
	}
}

// printChecks writes the gate's checks, or only those that hold.
func printChecks(w io.Writer, p paint, checks []gate.Check, holdsOnly bool) {
	t := table{}
	var notAsked []string
	for _, check := range checks {
		mark := cell{string(check.Verdict), p.good}
		switch {
		case check.Verdict == gate.Hold:
			mark.paint = p.bad
		case holdsOnly:
			continue
		case check.Verdict == gate.NotAsked:
			notAsked = append(notAsked, string(check.ID))
			continue
		case check.Verdict == gate.Waived:
			mark.paint = p.warn
		}
		t.add(cell{text: "  "}, mark, plain(string(check.ID)), plain(check.Evidence))
		if len(check.Remedies) > 0 {
			t.add(plain(""), plain(""), plain(""), cell{"→ " + advice.Text(check.Remedies), p.strong})
		}
	}
	t.printRows(w)
	if len(notAsked) > 0 {
		fmt.Fprintln(w, p.dim("  not asked: "+strings.Join(notAsked, ", ")))
	}
}

func ledgerCommand() command {
	return command{
		verb: "ledger", does: "shows the history of a target, newest first",
		example: "vorrang ledger -env production -limit 20\nvorrang ledger -env production -step 12\n" +
			"vorrang ledger -env production -effects\n" +
			"vorrang ledger -env production -setup > ledger-owner.sql",
		setUp: func(e *env) func(context.Context, []string) error {
			var query client.LedgerQuery
			e.flags.IntVar(&query.Limit, "limit", 0, "the newest so many entries; 0 is all")
			e.flags.Int64Var(&query.Before, "before", 0, "only those before the entry with this `number`")
			e.flags.StringVar(&query.Step, "step", "", "only those about this `step`")
			effects := e.flags.Bool(
				"effects", false,
				"what each deployment's steps did to the schema, instead of the entries",
			)
			setup := e.flags.Bool(
				"setup", false,
				"the SQL that gives the ledger an owner of its own, for an administrator of the database to run with psql",
			)
			e.mode("setup", nil)
			e.mode("effects", nil, "before", "limit")
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				if *setup {
					script, err := at.LedgerSetup(ctx, at.lane, at.environment)
					if err != nil {
						return err
					}
					return e.print(script, func() { fmt.Fprint(e.out, script.SQL) })
				}
				if *effects {
					list, err := at.Effects(ctx, at.lane, at.environment, client.ListQuery{Before: query.Before, Limit: query.Limit})
					if err != nil {
						return err
					}
					return e.print(list, func() { printEffects(e, list) })
				}
				history, err := at.LedgerPage(ctx, at.lane, at.environment, query)
				if err != nil {
					return err
				}
				return e.print(history, func() { printLedger(e, at.lane, at.environment, history) })
			})
		},
	}
}

func printLedger(e *env, lane, environment string, history *api.Ledger) {
	if !history.Exists {
		fmt.Fprintf(e.out, "%s/%s has no ledger yet\n", lane, environment)
		return
	}
	t := table{
		heads: []string{"SEQ", "AT (UTC)", "ACTION", "STEP", "SLUG", "TOOK", "DEPLOYMENT", "ACTOR", "HASH", "WHY"},
	}
	for _, entry := range history.Entries {
		t.add(
			plain(fmt.Sprint(entry.Seq)), plain(moment(entry.At)), actionCell(e.paint, entry),
			plain(string(entry.Step)), plain(entry.Slug), plain(took(entry.DurationMS)), plain(entry.Deployment),
			plain(entry.Actor),
			cell{entry.Hash[:12], e.paint.dim},
			plain(why(entry)),
		)
	}
	t.print(e.out, e.paint)
	e.older(history.Next)
	if history.Chain != "" {
		fmt.Fprintln(e.out, e.paint.bad(history.Chain))
		return
	}
	fmt.Fprintln(e.out, e.paint.dim(fmt.Sprintf("the chain of %s holds",
		plural.Word(history.Total, "the only entry", fmt.Sprintf("all %d entries", history.Total)))))
}

// why is what an entry gives as its reason: somebody's words, or the error.
func why(entry ledger.Entry) string {
	var detail ledger.Detail
	_ = json.Unmarshal(entry.Detail, &detail) // entries of others may carry other details
	parts := []string{cmp.Or(detail.Reason, detail.Error)}
	for _, w := range detail.Waived {
		parts = append(parts, fmt.Sprintf("%s waived by %s: %s", w.Check, w.By, w.Reason))
	}
	text := []rune(strings.Join(strings.Fields(strings.Join(parts, " ")), " "))
	const most = 110
	if len(text) > most {
		return string(text[:most]) + "…"
	}
	return string(text)
}

func actionCell(p paint, entry ledger.Entry) cell {
	c := plain(string(entry.Action))
	switch entry.Action {
	case ledger.Failed:
		c.paint = p.bad
	case ledger.Begun, ledger.RolledBack:
		c.paint = p.warn
	case ledger.Applied, ledger.Baselined, ledger.Attested, ledger.Amended, ledger.Settled:
	}
	return c
}

func deploymentsCommand() command {
	return command{
		verb: "deployments", does: "lists what ran, newest first",
		example: "vorrang deployments -env staging\nvorrang deployments -fleets\nvorrang deployments -outcome failed -step 12",
		setUp: func(e *env) func(context.Context, []string) error {
			e.lane = e.flags.String("lane", "", "only of this `lane`")
			var query client.DeploymentQuery
			e.flags.StringVar(&query.Environment, "env", "", "only on this `environment`")
			e.flags.StringVar(&query.Outcome, "outcome", "",
				"only those that ended so: `outcome` is running, done, failed, \"backed out\", cancelled or interrupted")
			e.flags.StringVar(&query.Actor, "actor", "", "only those that this `name` began")
			e.flags.StringVar(&query.Step, "step", "", "only those that were to run this `step`, or its way back")
			e.flags.StringVar(&query.Release, "release", "", "only those that promoted this `release`")
			e.flags.Int64Var(&query.Before, "before", 0, "only those before this `deployment`")
			e.flags.IntVar(&query.Limit, "limit", 20, "the newest so many")
			fleets := e.flags.Bool("fleets", false, "deployments to fleets, each once")
			return func(ctx context.Context, args []string) error {
				if err := e.noArguments(args); err != nil {
					return err
				}
				query.Lane = *e.lane
				if *fleets {
					return listFleetDeployments(ctx, e, query)
				}
				list, err := e.client().Deployments(ctx, query)
				if err != nil {
					return err
				}
				return e.print(list, func() { printDeployments(e, query, list) })
			}
		},
	}
}

func printDeployments(e *env, query client.DeploymentQuery, list *api.Deployments) {
	if len(list.Deployments) == 0 {
		e.noDeployment(query, "nothing was deployed yet")
		return
	}
	t := table{
		heads: []string{"ID", "LANE", "ENVIRONMENT", "DIRECTION", "STEPS", "OUTCOME", "STARTED (UTC)", "TOOK", "ACTOR"},
	}
	for _, d := range list.Deployments {
		duration := ""
		if d.EndedAt != nil {
			duration = took(d.EndedAt.Sub(d.StartedAt).Milliseconds())
		}
		t.add(
			plain(fmt.Sprint(d.ID)), plain(d.Lane), plain(d.Environment), plain(string(d.Direction)),
			plain(fmt.Sprint(d.Planned)),
			cell{
				string(d.Outcome), outcomePaint(e.paint, d.Outcome),
			},
			plain(moment(d.StartedAt)), plain(duration), plain(d.Actor),
		)
	}
	t.print(e.out, e.paint)
	e.older(list.Next)
}

// noDeployment says that a list of deployments is empty: what otherwise, where nothing was searched for.
func (e *env) noDeployment(query client.DeploymentQuery, otherwise string) {
	if query != (client.DeploymentQuery{Limit: query.Limit}) {
		otherwise = "there is no such deployment"
	}
	fmt.Fprintln(e.out, otherwise)
}

// listFlags are the options by which part of a list is asked for; in is what is searched.
func (e *env) listFlags(in string) *client.ListQuery {
	q := &client.ListQuery{}
	e.flags.StringVar(&q.Search, "search", "", "only those in whose "+in+" this `text` stands")
	e.flags.IntVar(&q.Limit, "limit", 100, "so `many` at most")
	return q
}

// asksForSome reports whether only part of a list is asked for, so that none of it does not mean none.
func asksForSome(q client.ListQuery) bool { return q != (client.ListQuery{Limit: q.Limit}) }

// listByName is listFlags of a list that is in the order of names.
func (e *env) listByName(in string) *client.ListQuery {
	q := e.listFlags(in)
	e.flags.StringVar(&q.After, "after", "", "only those that come after this `name`")
	return q
}

// listByNumber is listFlags of a list whose newest come first.
func (e *env) listByNumber(in string) *client.ListQuery {
	q := e.listFlags(in)
	e.flags.Int64Var(&q.Before, "before", 0, "only those before this `number`")
	return q
}

// further says how the next page of a list by name is asked for, if there is one.
func (e *env) further(next string) {
	if next != "" {
		fmt.Fprintln(e.out, e.paint.dim("there are more: -after "+next))
	}
}

// older says how the next page of a list is asked for, if there is one.
func (e *env) older(next int64) {
	if next > 0 {
		fmt.Fprintln(e.out, e.paint.dim(fmt.Sprintf("there are older ones: -before %d", next)))
	}
}

func outcomePaint(p paint, outcome deploy.Outcome) func(string) string {
	switch outcome {
	case deploy.Done:
		return p.good
	case deploy.Failed, deploy.BackedOut:
		return p.bad
	case deploy.Running, deploy.Cancelled, deploy.Interrupted:
	}
	return p.warn
}

func watchCommand() command {
	return command{
		verb: "watch", takes: "DEPLOYMENT", does: "shows a deployment, live or later",
		explain: "With -json, one event a line. Exit code 4 if the deployment failed. F before the number is a deployment to a fleet.",
		example: "vorrang watch 12\nvorrang watch F3",
		setUp: func(e *env) func(context.Context, []string) error {
			return func(ctx context.Context, args []string) error {
				if fleet, is := fleetNumber(args); is {
					return watchFleet(ctx, e, fleet)
				}
				id, err := oneDeployment("watch", args)
				if err != nil {
					return err
				}
				c := e.client()
				d, err := c.Deployment(ctx, id)
				if err != nil {
					return err
				}
				if *e.json {
					encoder := json.NewEncoder(e.out)
					if err := c.Follow(ctx, id, 0, func(event deploy.Event) error { return encoder.Encode(event) }); err != nil {
						return err
					}
				} else if err := follow(ctx, e, c, d, 0); err != nil {
					return err
				}
				return outcomeExit(ctx, c, id)
			}
		},
	}
}

// oneDeployment reads the number that a command takes.
func oneDeployment(verb string, args []string) (int64, error) {
	if len(args) != 1 {
		return 0, usage("name one deployment: vorrang %s 12", verb)
	}
	id, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil {
		return 0, usage("%q is not a deployment's number; vorrang deployments lists them", args[0])
	}
	return id, nil
}
