package main

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"vorrang/core/draft"
	"vorrang/core/schema"
	"vorrang/internal/schematest"
	"vorrang/target/postgres"
)

const workers = 2

// pairs drafts the differences of random pairs of schemas, runs them,
// compares, takes them back, and compares again.
func (b *bench) pairs(ctx context.Context) error {
	var next, equal atomic.Int64
	var wait sync.WaitGroup
	errs := make(chan error, workers)
	began := time.Now()
	for range workers {
		wait.Go(func() {
			if err := b.somePairs(ctx, &next, &equal); err != nil {
				errs <- err
			}
		})
	}
	wait.Wait()
	close(errs)
	if err := <-errs; err != nil {
		return err
	}
	took := time.Since(began)
	b.lines = append(
		b.lines,
		line{
			work: fmt.Sprintf(
				"%d random pairs of schemas: the difference drafted, applied, compared, and back",
				*manyPairs,
			),
			aim:    "all equal",
			figure: fmt.Sprintf("%d equal, %d ms each", equal.Load(), took.Milliseconds() / *manyPairs),
			met:    equal.Load() == *manyPairs,
		},
	)
	fmt.Printf("%d of %d pairs are equal, in %s\n", equal.Load(), *manyPairs, took.Round(time.Second))
	return nil
}

// somePairs works on databases of its own, which it empties after each pair.
func (b *bench) somePairs(ctx context.Context, next, equal *atomic.Int64) error {
	var databases [3]*postgres.Scratch // with the first of a pair, with the second, and to draft on
	for i := range databases {
		scratch, err := postgres.NewScratch(ctx, b.url("postgres"), "", true)
		if err != nil {
			return err
		}
		defer scratch.Close()
		databases[i] = scratch
	}
	for {
		seed := next.Add(1) - 1
		if seed >= *manyPairs {
			return nil
		}
		var pair [2]schema.Schema
		one, other := schematest.Pair(uint64(seed))
		for i, statements := range []string{one, other} {
			err := databases[i].Run(ctx, []byte(statements), false)
			if err == nil {
				pair[i], err = databases[i].SnapshotWithNeeds(ctx, nil)
			}
			if err != nil {
				return fmt.Errorf("pair %d: %w", seed, err)
			}
		}
		made, err := draft.Make(
			ctx, databases[2],
			draft.Request{Writer: postgres.Engine{}, Present: &pair[0], Desired: pair[1], Settled: true},
		)
		if err != nil {
			return fmt.Errorf("pair %d: %w", seed, err)
		}
		if made.Proved && len(made.Undraftable)+len(made.Irreversible) == 0 {
			equal.Add(1)
		} else {
			fmt.Printf("pair %d: %s %v %v\n", seed, made.Why, made.Undraftable, made.Irreversible)
		}
		for _, database := range databases {
			if err := database.Run(ctx, []byte("DROP SCHEMA IF EXISTS port CASCADE"), false); err != nil {
				return err
			}
		}
	}
}
