package main

import (
	"context"
	"fmt"
	"time"

	"vorrang/internal/plural"
)

// moments are the forms in which a time is taken; without a zone it is local.
var moments = []string{time.RFC3339, "2006-01-02T15:04", "2006-01-02 15:04", "2006-01-02"}

func parseMoment(flag, text string) (time.Time, error) {
	for _, form := range moments {
		if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, usage(
		"-%s: %q is not a time; write 2026-12-24, 2026-12-24T18:00 or 2026-12-24T18:00:00Z",
		flag, text,
	)
}

func freezeCommand() command {
	return command{
		verb: "freeze", does: "forbids promotions to an environment for a time",
		explain: "Rollbacks and repairs are still possible. A time without a zone is that of this machine.",
		example: `vorrang freeze -env production -from 2026-12-23 -until 2027-01-02 -reason "the harbour office is closed"`,
		setUp: func(e *env) func(context.Context, []string) error {
			from := e.flags.String("from", "", "its `beginning`; without it now")
			until := e.flags.String("until", "", "its `end`")
			reason := e.flags.String("reason", "", "why, in your `words`; the people it holds read it")
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				if *until == "" || *reason == "" {
					return usage("-until and -reason are both needed")
				}
				var begin time.Time
				end, err := parseMoment("until", *until)
				if err == nil && *from != "" {
					begin, err = parseMoment("from", *from)
				}
				if err != nil {
					return err
				}
				frozen, err := at.Freeze(ctx, at.lane, at.environment, begin, end, *reason)
				if err != nil {
					return err
				}
				return e.print(frozen, func() {
					fmt.Fprintf(
						e.out,
						"%s/%s is frozen from %s to %s UTC\n",
						at.lane, at.environment, moment(frozen.From), moment(frozen.Until),
					)
				})
			})
		},
	}
}

func thawCommand() command {
	return command{
		verb: "thaw", does: "ends an environment's freezes, also those to come",
		example: `vorrang thaw -env production -reason "the pilot boat's fix cannot wait"`,
		setUp: func(e *env) func(context.Context, []string) error {
			reason := e.flags.String("reason", "", "why, in your `words`")
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				if *reason == "" {
					return usage("-reason is needed")
				}
				thawed, err := at.Thaw(ctx, at.lane, at.environment, *reason)
				if err != nil {
					return err
				}
				return e.print(thawed, func() {
					fmt.Fprintf(
						e.out,
						"%s/%s is not frozen any more; %s ended\n",
						at.lane, at.environment,
						plural.Of(int(thawed.Ended), "freeze"),
					)
				})
			})
		},
	}
}

func backupCommand() command {
	return command{
		verb: "backup", does: "reports a backup of a target, for gates that ask for a fresh one",
		explain: "Called by the job that takes the backups, once it has succeeded. Vorrang takes none itself.",
		example: "vorrang backup -env production -label nightly-2026-11-23 -taken-at 2026-11-23T03:00:00Z",
		setUp: func(e *env) func(context.Context, []string) error {
			label := e.flags.String("label", "", "the `name` by which it can be found")
			takenAt := e.flags.String("taken-at", "", "the `time` whose state it holds")
			return e.onEnvironment("env", func(ctx context.Context, at spot) error {
				if *label == "" || *takenAt == "" {
					return usage("-label and -taken-at are both needed")
				}
				taken, err := parseMoment("taken-at", *takenAt)
				if err != nil {
					return err
				}
				reported, err := at.Backup(ctx, at.lane, at.environment, *label, taken)
				if err != nil {
					return err
				}
				return e.print(reported, func() {
					fmt.Fprintf(
						e.out,
						"backup %s of %s/%s is known, taken at %s UTC\n",
						reported.Label, at.lane, at.environment, moment(reported.TakenAt),
					)
				})
			})
		},
	}
}
