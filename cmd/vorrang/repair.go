package main

import (
	"context"
	"fmt"
	"strings"

	"vorrang/client"
	"vorrang/core/evidence"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

// What people know and record: nothing here runs a step.

func withdrawCommand() command {
	return command{
		verb: "withdraw", takes: "STEP", does: "takes the newest step back, if it is applied nowhere",
		explain: "Its files stay in your folder: take them out too, or the next submit brings the step back.",
		example: "vorrang withdraw 12",
		setUp: func(e *env) func(context.Context, []string) error {
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if len(args) != 1 {
					return usage("name one step: vorrang withdraw 12")
				}
				withdrawn, err := at.Withdraw(ctx, at.lane, args[0])
				if err != nil {
					return err
				}
				return e.print(withdrawn, func() {
					fmt.Fprintf(
						e.out,
						"step %s (%s) is withdrawn; %s in the catalogue\n",
						withdrawn.Number, withdrawn.Slug,
						plural.Of(withdrawn.Steps, "step"),
					)
					fmt.Fprintf(
						e.out,
						"→ take its files out of the folder: %s\n",
						e.paint.strong(strings.Join(withdrawn.Files, " ")),
					)
				})
			})
		},
	}
}

func baselineCommand() command {
	return command{
		verb: "baseline", does: "records that an existing database already contains every step up to a number",
		explain: "Nothing is run. Only a target without a ledger can be baselined; a wrong baseline can be corrected as " +
			"long as nothing was applied above it.\n" +
			"With -check, the steps are applied to a scratch database on a disposable environment's server first.\n" +
			"A number after which the schema differs is refused: the differences are listed, and the number that fits, if " +
			"there is one.",
		example: "vorrang baseline -env production -at 5 -check",
		setUp: func(e *env) func(context.Context, []string) error {
			last := e.flags.String("at", "", "the last `step` that the database contains; 0 for none")
			check := e.flags.Bool("check", false, "compare with a scratch database first")
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				if *last == "" {
					return usage("say -at STEP: the last step that the database already contains; 0 for none")
				}
				return e.recorded(at.Baseline(ctx, at.lane, at.environment, *last, *check))
			})
		},
	}
}

func adoptCommand() command {
	return command{
		verb: "adopt", does: "shows what is found in a target beside what was known, and takes it over",
		explain: "For a target whose history is not what was seen: restored from a backup, refreshed from another " +
			"environment, made again, moved.\n" +
			"Without -reason it only shows what it finds, and exits with 3 if the gate is held by it.\n" +
			"With -reason the ledger gets an entry that says so, and the schema is right as it is. Nothing is run, and no " +
			"entry is changed.",
		example: `vorrang adopt -env staging` + "\n" +
			`vorrang adopt -env staging -reason "refreshed from last night's backup of production"`,
		setUp: func(e *env) func(context.Context, []string) error {
			reason := e.flags.String("reason", "", "why it is right as it is, in your `words`; it is kept in the ledger")
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				found, err := at.Adoption(ctx, at.lane, at.environment)
				if err != nil {
					return err
				}
				if *reason != "" {
					return e.recorded(at.Adopt(ctx, at.lane, at.environment, found.Finding, *reason))
				}
				if err := e.print(found, func() { printAdoption(e, found) }); err != nil || !found.Needed {
					return err
				}
				return &codedError{exitHeld, ""}
			})
		},
	}
}

func printAdoption(e *env, found *api.Adoption) {
	fmt.Fprintf(e.out, "what is found on %s/%s:\n", found.Lane, found.Environment)
	for _, line := range found.Lines {
		fmt.Fprintf(e.out, "  %s\n", line)
	}
	printDifferences(e, "    ", found.Differences, 20)
	command := e.paint.strong(
		fmt.Sprintf("vorrang adopt -lane %s -env %s -reason \"…\"", found.Lane, found.Environment),
	)
	if found.Needed {
		fmt.Fprintf(e.out, "→ if it is meant to be like this: %s\n", command)
		return
	}
	fmt.Fprintf(e.out, "%s: the gate is not held by it\n", e.paint.good("nothing needs to be adopted"))
}

// recorded prints what was recorded.
func (e *env) recorded(recorded *api.Recorded, err error) error {
	if err != nil {
		return err
	}
	return e.print(recorded, func() { fmt.Fprintln(e.out, recorded.Message) })
}

// word are the flags of somebody's word on a step.
type word struct {
	step, reason *string
}

func wordFlags(e *env) word {
	return word{
		step:   e.flags.String("step", "", "the `step`"),
		reason: e.flags.String("reason", "", "how you know, in your `words`; it is kept in the ledger"),
	}
}

func amendCommand() command {
	return command{
		verb: "amend", does: "records that an edited step's new text is right, though another was applied",
		explain: "Nothing is run. What the edit changed must be in the database by other means: where it changes what " +
			"runs, the new text's check\n" +
			"or its objects are looked up, and what is not so is recorded only with -acknowledge. vorrang status -env E " +
			"shows the difference.",
		example: `vorrang amend -env staging -step 2 -reason "only a comment changed"`,
		setUp: func(e *env) func(context.Context, []string) error {
			w := wordFlags(e)
			acknowledge := e.flags.Bool("acknowledge", false, "record it though not everything is as it should be")
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				if *w.step == "" || *w.reason == "" {
					return usage("-step and -reason are both needed")
				}
				return e.recorded(at.Amend(ctx, at.lane, at.environment, *w.step, *w.reason, *acknowledge))
			})
		},
	}
}

func attestCommand() command {
	return command{
		verb: "attest", does: "records steps as run by hand, after a look at the target",
		explain: "Nothing is run. A step's check must hold on the target; without one, the objects that it creates, " +
			"alters or drops\n" +
			"are looked up. What is not as it should be is listed, and recorded only with -acknowledge.",
		example: `vorrang attest -env production -step 8 -reason "hotfix of 14 November, by hand"` + "\n" +
			`vorrang attest -env production -through 12 -if-present -reason "built from a dump"`,
		setUp: func(e *env) func(context.Context, []string) error {
			w := wordFlags(e)
			through := e.flags.String("through", "", "every step that waits, up to this `step`")
			ifPresent := e.flags.Bool(
				"if-present", false,
				"only the steps of which everything that they create is there",
			)
			acknowledge := e.flags.Bool("acknowledge", false, "record it though not everything is as it should be")
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				if (*w.step == "") == (*through == "") || *w.reason == "" {
					return usage("-reason is needed, and one of -step and -through")
				}
				attested, err := at.Attest(
					ctx, at.lane, at.environment,
					client.Attestation{Step: *w.step, Through: *through,
						IfPresent: *ifPresent, Acknowledge: *acknowledge, Reason: *w.reason},
				)
				if err != nil {
					return err
				}
				return e.print(attested, func() { printAttested(e, attested) })
			})
		},
	}
}

func printAttested(e *env, attested *api.Attested) {
	for _, s := range attested.Steps {
		mark := e.paint.good("attested")
		if !s.Attested {
			mark = e.paint.warn("left out")
		}
		fmt.Fprintf(e.out, "%s  step %s, %s\n", mark, s.Number, s.Slug)
		for _, line := range s.Lines {
			fmt.Fprintf(e.out, "          %s\n", e.paint.dim(line))
		}
	}
	fmt.Fprintln(e.out, attested.Message)
}

func settleCommand() command {
	return command{
		verb: "settle", does: "shows what a target shows of an unfinished step, and records what became of it",
		explain: "Without -as it only shows the evidence: the step's check, the objects of its statements, an index left " +
			"INVALID.\n" +
			"Exit code 5 as long as the step is in doubt.\n" +
			"-as applied and -as not-applied say whether the statement in doubt took effect. A step that stopped half-way is " +
			"settled as a whole:\n" +
			"undone (nothing of it is there any more), whole (all of it is there), or again (it begins again at its first " +
			"statement).",
		example: "vorrang settle -env staging -step 5\n" +
			`vorrang settle -env staging -step 5 -as not-applied -drop-invalid -reason "the build was cut off"`,
		setUp: func(e *env) func(context.Context, []string) error {
			w := wordFlags(e)
			as := e.flags.String("as", "", "what became of it: applied, not-applied, undone, whole or again (a `word`)")
			acknowledge := e.flags.Bool("acknowledge", false, "record it though the evidence speaks against it")
			dropInvalid := e.flags.Bool("drop-invalid", false, "drop the index that was left INVALID first")
			e.mode("as", []string{"reason", "acknowledge", "drop-invalid"}, "step")
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				switch {
				case *w.step == "":
					return usage("say which step: -step N")
				case *as == "":
					return showEvidence(ctx, e, at, *w.step)
				case *w.reason == "":
					return usage("-reason is needed: how you know, in your words")
				}
				return e.recorded(
					at.Settle(ctx, at.lane, at.environment, client.Settlement{Step: *w.step, As: *as, Reason: *w.reason,
						Acknowledge: *acknowledge, DropInvalid: *dropInvalid}),
				)
			})
		},
	}
}

func showEvidence(ctx context.Context, e *env, at spot, number string) error {
	found, err := at.Evidence(ctx, at.lane, at.environment, number)
	if err != nil {
		return err
	}
	if err := e.print(found, func() { printEvidence(e, at, found) }); err != nil || found.Verdict == "" {
		return err
	}
	return &codedError{exitInDoubt, ""}
}

func printEvidence(e *env, at spot, found *api.Evidence) {
	p := e.paint
	fmt.Fprintf(
		e.out,
		"step %s (%s) is %s on %s/%s\n",
		found.Number, found.Slug, p.strong(string(found.State)), at.lane, at.environment,
	)
	if found.Statement > 0 {
		fmt.Fprintf(e.out, "its statement %d of %d, in line %d:\n%s\n", found.Statement, found.Of, found.Line,
			p.dim("    "+strings.ReplaceAll(strings.TrimSpace(found.SQL), "\n", "\n    ")))
	}
	fmt.Fprintln(e.out, "what the target shows:")
	for _, line := range found.Lines {
		fmt.Fprintf(e.out, "  %s\n", line)
	}
	command := fmt.Sprintf("vorrang settle -lane %s -env %s -step %s", at.lane, at.environment, found.Number)
	switch found.Verdict {
	case evidence.TookEffect, evidence.NoEffect:
		fmt.Fprintf(
			e.out,
			"%s: %s\n→ the next deployment records that by itself\n",
			p.strong("so it is "+string(found.Verdict)),
			found.Why,
		)
	case evidence.Unclear:
		fmt.Fprintf(e.out, "%s: %s\n", p.warn("that does not decide it"), found.Why)
		for _, index := range found.Invalid {
			fmt.Fprintf(
				e.out,
				"→ to drop the %s and let the step try again: %s\n",
				index,
				p.strong(command+` -as not-applied -drop-invalid -reason "…"`),
			)
		}
		if len(found.Invalid) > 0 {
			return
		}
		fmt.Fprintf(e.out, "→ if the statement took effect: %s\n→ if not: %s\n",
			p.strong(command+` -as applied -reason "…"`), p.strong(command+` -as not-applied -reason "…"`))
	}
}
