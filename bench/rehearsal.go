package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/target/postgres"
)

// rehearsal: 12 steps tried forward, back and forward again, on a copy of a schema of 300
// tables.
func (b *bench) rehearsal(ctx context.Context) error {
	const tables, n = 300, 12
	files := map[string]string{}
	var script, wide strings.Builder
	for i := range tables {
		fmt.Fprintf(&wide, "CREATE TABLE gauge_%d (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, level_m "+
			"numeric(6,3) CHECK (level_m < 20));\n", i)
	}
	files["0001-gauges.sql"] = wide.String()
	for i := range n {
		sql := fmt.Sprintf("ALTER TABLE gauge_%d ADD COLUMN remark text; CREATE TABLE berth_%d (id bigint PRIMARY KEY, "+
			"name text);", i, i)
		name := fmt.Sprintf("%04d-add-remark", i+2)
		files[name+".sql"] = sql
		files[name+".back.sql"] = fmt.Sprintf("DROP TABLE berth_%d; ALTER TABLE gauge_%d DROP COLUMN remark;", i, i)
		fmt.Fprintf(&script, "BEGIN;\n%s\nCOMMIT;\n", sql)
	}
	if err := b.fresh(ctx, "rehearse"); err != nil {
		return err
	}
	const text = "lane: rehearse\nenvironments: [{name: only, target: env:REHEARSE, scratch: env:REHEARSE}]\n"
	if err := b.declared(ctx, "rehearse", text, files); err != nil {
		return err
	}
	if err := b.promote("rehearse", "-through", "1"); err != nil {
		return err
	}
	path := filepath.Join(b.folder, "rehearse.sql")
	if err := os.WriteFile(path, []byte(script.String()), 0o644); err != nil {
		return err
	}
	// psql has a database of its own with the same tables, made again each time
	prepare := func() error {
		if err := b.fresh(ctx, "rehearsed"); err != nil {
			return err
		}
		return b.exec(ctx, "rehearsed", wide.String())
	}
	ours, theirs, err := compare(prepare, func() error {
		answer, err := b.client.Rehearse(ctx, "rehearse", "only", client.Rehearsal{}, nil)
		if err == nil && !answer.Result.Passed {
			err = errors.New(answer.Result.Why)
		}
		return err
	}, func() error { return b.psql("rehearsed", path) })
	b.add(
		"rehearsing 12 steps on a schema of 300 tables: a copy, forward, back, forward again",
		"psql applying the steps",
		ours,
		theirs,
		3,
	)
	if err != nil {
		return err
	}
	return b.copyAlone(ctx, wide.String())
}

// copyAlone: what the server takes to make a database with the tables of a rehearsal, and to drop
// it again, by psql.
func (b *bench) copyAlone(ctx context.Context, tables string) error {
	path := filepath.Join(b.folder, "tables.sql")
	if err := os.WriteFile(path, []byte("BEGIN;\n"+tables+"COMMIT;\n"), 0o644); err != nil {
		return err
	}
	var best time.Duration
	for range rounds {
		took, err := timed(func() error {
			err := b.exec(ctx, "postgres", "CREATE DATABASE bare")
			if err == nil {
				err = b.psql("bare", path)
			}
			return errors.Join(err, b.exec(ctx, "postgres", "DROP DATABASE bare"))
		})
		if err != nil {
			return err
		}
		if best == 0 || took < best {
			best = took
		}
	}
	b.lines = append(b.lines, line{
		work:   "for comparison: psql makes a database with those 300 tables in one transaction, and drops it",
		figure: best.Round(time.Millisecond).String(),
	})
	return nil
}

// footprints: what it costs to measure each of 1,000 small steps. The service measures up
// to 200 of a deployment.
func (b *bench) footprints(ctx context.Context) error {
	const n = 1000
	texts := map[step.Checksum][]byte{}
	p := plan.Plan{Direction: ledger.Forward}
	for i := range n {
		text := fmt.Appendf(nil, "CREATE TABLE berth_%d (id bigint PRIMARY KEY, quay_id bigint REFERENCES quay); INSERT "+
			"INTO quay VALUES (%d);", i, i)
		sum := step.Sum(text)
		texts[sum] = text
		p.Actions = append(p.Actions, plan.Action{Direction: ledger.Forward, Step: plan.Step{
			Number: step.Number(
				fmt.Sprint(i + 1),
			), Slug: "create-berth", Options: step.DefaultOptions(), Forward: plan.Text{Name: "1-a.sql", Checksum: sum},
		}})
	}
	run := func(measure bool) func() error {
		return func() error {
			session, err := postgres.Connect(ctx, b.url("measured"), "bench")
			if err != nil {
				return err
			}
			defer session.Close()
			if err := session.CreateLedger(ctx); err != nil {
				return err
			}
			runner := deploy.Runner{
				Target: session, Dialect: postgres.Engine{}.Dialect(), Emit: func(deploy.Event) {}, Now: time.Now,
				Texts: func(_ context.Context, sum step.Checksum) ([]byte, error) { return texts[sum], nil },
				Pause: func(context.Context, time.Duration) {}, Deployment: "1", Actor: "bench", Measure: measure,
			}
			if result := runner.Run(ctx, ledger.NewHead(), p); result.Outcome != deploy.Done {
				return fmt.Errorf("%s: %v", result.Outcome, result.Failure)
			}
			return nil
		}
	}
	prepare := func() error {
		if err := b.fresh(ctx, "measured"); err != nil {
			return err
		}
		return b.exec(ctx, "measured", "CREATE TABLE quay (id bigint PRIMARY KEY)")
	}
	ours, theirs, err := compare(prepare, run(true), run(false))
	b.add("measuring the footprints of 1,000 small steps, of which so many are measured that it takes at "+
		"most a twentieth of the time", "the same steps, unmeasured", ours, theirs, 1.05)
	return err
}
