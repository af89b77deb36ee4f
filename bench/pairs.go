package main

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/core/draft"
	"vorrang/core/schema"
	"vorrang/internal/schematest"
	"vorrang/target/postgres"
)

const (
	manyPairs = 2000
	workers   = 2
)

// pairs drafts the differences of random pairs of schemas, carries them out,
// compares, takes them back, and compares again.
func (b *bench) pairs(ctx context.Context) error {
	var next, equal atomic.Int64
	var wait sync.WaitGroup
	errs := make(chan error, workers)
	began := time.Now()
	for worker := range workers {
		wait.Go(func() {
			if err := b.somePairs(ctx, worker, &next, &equal); err != nil {
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
	b.lines = append(b.lines, line{work: fmt.Sprintf("%d random pairs of schemas: the difference drafted, applied, compared, and back", manyPairs), aim: "all equal",
		figure: fmt.Sprintf("%d equal, %d ms each", equal.Load(), took.Milliseconds()/manyPairs), met: equal.Load() == manyPairs})
	fmt.Printf("%d of %d pairs are equal, in %s\n", equal.Load(), manyPairs, took.Round(time.Second))
	return nil
}

// somePairs works on databases of its own, which it empties after each pair.
func (b *bench) somePairs(ctx context.Context, worker int, next, equal *atomic.Int64) error {
	url := func(name string) string { return b.url(fmt.Sprintf("%s_%d", name, worker)) }
	for _, name := range []string{"one", "other"} {
		if err := b.fresh(ctx, fmt.Sprintf("%s_%d", name, worker)); err != nil {
			return err
		}
	}
	ground, err := postgres.NewScratch(ctx, b.url("postgres"))
	if err != nil {
		return err
	}
	defer ground.Close()
	for {
		seed := next.Add(1) - 1
		if seed >= manyPairs {
			return nil
		}
		first, second := schematest.Pair(uint64(seed))
		present, err := read(ctx, url("one"), first)
		if err != nil {
			return fmt.Errorf("pair %d: %w", seed, err)
		}
		wished, err := read(ctx, url("other"), second)
		if err != nil {
			return fmt.Errorf("pair %d: %w", seed, err)
		}
		made, err := draft.Make(ctx, ground, draft.Wish{Present: &present, Wished: wished, Settled: true})
		if err != nil {
			return fmt.Errorf("pair %d: %w", seed, err)
		}
		if made.Proved && len(made.Undrafted)+len(made.Unreturned) == 0 {
			equal.Add(1)
		} else {
			fmt.Printf("pair %d: %s %v %v\n", seed, made.Why, made.Undrafted, made.Unreturned)
		}
		if err := ground.Run(ctx, []byte("DROP SCHEMA IF EXISTS port CASCADE"), false); err != nil {
			return err
		}
	}
}

// read makes a schema in a database that may have another, and reads it.
func read(ctx context.Context, url, statements string) (schema.Schema, error) {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return schema.Schema{}, err
	}
	defer conn.Close(ctx)
	if _, err := conn.PgConn().Exec(ctx, "SET client_min_messages = warning; DROP SCHEMA IF EXISTS port CASCADE; "+statements).ReadAll(); err != nil {
		return schema.Schema{}, err
	}
	session, err := postgres.Connect(ctx, url, "bench")
	if err != nil {
		return schema.Schema{}, err
	}
	defer session.Close()
	return session.SnapshotWithNeeds(ctx, nil)
}
