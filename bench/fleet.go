package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/plan"
	"vorrang/service/api"
)

const (
	fleetTargets = 500
	fleetAlone   = 20 // of them, which are deployed to one after the other, to know what one takes
	fleetSteps   = 10
	fleetBroken  = 3 // of them, whose last step fails
)

// fleet: hundreds of targets, each a database of its own, through one promotion.
func (b *bench) fleet(ctx context.Context) error {
	list, database := "", func(i int) string { return fmt.Sprintf("fleet%03d", i+1) }
	for i := range fleetTargets {
		if err := b.exec(ctx, "postgres", "CREATE DATABASE "+database(i)); err != nil {
			return err
		}
		list += database(i) + " " + b.url(database(i)) + "\n"
	}
	broken := []string{database(fleetAlone + 7), database(fleetTargets / 2), database(fleetTargets - 1)}[:fleetBroken]
	for _, name := range broken {
		if err := b.exec(ctx, "postgres", "ALTER DATABASE "+name+" SET harbour.broken = 'true'"); err != nil {
			return err
		}
	}
	file := filepath.Join(b.folder, "fleet.list")
	if err := os.WriteFile(file, []byte(list), 0o600); err != nil {
		return err
	}
	files := map[string]string{}
	for i := 1; i < fleetSteps; i++ {
		files[fmt.Sprintf("%02d-reading.sql", i)] = fmt.Sprintf(
			"CREATE TABLE reading_%d (gauge text, at timestamptz, level_cm integer);", i,
		)
	}
	files["10-mast.sql"] = "DO $$ BEGIN IF current_setting('harbour.broken', true) = 'true' THEN RAISE 'the mast is broken'; " +
		"END IF; END $$;"
	atOnce := runtime.NumCPU() // targets and service share the machine: more than that are not done at once
	text := fmt.Sprintf("lane: fleet\nenvironments:\n  - {name: only, targets: \"file:%s\", "+
		"waves: {canary: 1, at-once: %d, tolerate: %d}}\n", file, atOnce, fleetBroken)
	if err := b.declared(ctx, "fleet", text, files); err != nil {
		return err
	}
	var alone []time.Duration
	for i := range fleetAlone {
		took, err := timed(func() error { return b.oneOfFleet(ctx, "only."+database(i)) })
		if err != nil {
			return err
		}
		alone = append(alone, took)
	}
	slices.Sort(alone)
	var ended *api.FleetDeployment
	took, err := timed(func() (err error) { ended, err = b.throughFleet(ctx); return err })
	if err != nil {
		return err
	}
	if n := ended.Counts[plan.Failed]; n != fleetBroken || ended.Counts[plan.Reached] != fleetTargets-fleetBroken {
		return fmt.Errorf("a fleet ended otherwise than it should: %v, %s", ended.Counts, ended.Message)
	}
	ideal := alone[len(alone)/2] * (fleetTargets - fleetAlone) / time.Duration(atOnce)
	b.add(
		fmt.Sprintf("%d targets × %d steps, through a fleet, %d broken on purpose and named", fleetTargets, fleetSteps, fleetBroken),
		fmt.Sprintf("one target's time × %d / %d at once (%d were deployed to alone before)",
			fleetTargets-fleetAlone, atOnce, fleetAlone),
		took, ideal, 1.3,
	)
	for _, name := range broken {
		if err := b.exec(ctx, "postgres", "ALTER DATABASE "+name+" RESET harbour.broken"); err != nil {
			return err
		}
	}
	took, err = timed(func() (err error) { ended, err = b.throughFleet(ctx); return err })
	if err != nil {
		return err
	}
	touched := 0
	for _, t := range ended.Targets {
		if t.Deployment > 0 {
			touched++
		}
	}
	b.lines = append(b.lines, line{
		work: "the second promotion of that fleet", aim: fmt.Sprintf("touches the %d that were broken", fleetBroken),
		figure: fmt.Sprintf("touches %d, in %s", touched, took.Round(time.Millisecond)),
		met:    touched == fleetBroken && ended.Outcome == deploy.Done,
	})
	took, err = timed(func() error { _, err := b.client.Status(ctx, "fleet", "only", "none"); return err })
	b.lines = append(b.lines, line{
		work: "the status of that fleet, every target read now", figure: took.Round(time.Millisecond).String(), met: err == nil,
	})
	return err
}

// oneOfFleet promotes to one target.
func (b *bench) oneOfFleet(ctx context.Context, place string) error {
	promoted, err := b.client.Promote(ctx, "fleet", place, client.Promotion{})
	if err != nil {
		return err
	}
	return b.client.Follow(ctx, promoted.Deployment.ID, 0, func(deploy.Event) error { return nil })
}

// throughFleet promotes to all of them, and waits for the end.
func (b *bench) throughFleet(ctx context.Context) (ended *api.FleetDeployment, err error) {
	promoted, err := b.client.Promote(ctx, "fleet", "only", client.Promotion{})
	if err != nil {
		return nil, err
	}
	err = b.client.FollowFleet(ctx, promoted.Fleet.ID, func(now *api.FleetDeployment) error { ended = now; return nil })
	return ended, err
}
