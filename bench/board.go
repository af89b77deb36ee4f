package main

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/service/api"
)

const (
	boardLanes    = 50
	boardEntries  = 100_000 / boardLanes
	boardBrowsers = 20
	boardPoll     = 4 * time.Second // as the console does
	boardWatched  = 24 * time.Second
)

// board: lanes with long ledgers, whose overview many browsers keep open.
func (b *bench) board(ctx context.Context) error {
	files := map[string]string{}
	for i := 1; i <= boardEntries; i++ {
		files[fmt.Sprintf("%04d-note.sql", i)] = fmt.Sprintf("SELECT %d;", i)
	}
	for i := range boardLanes {
		name := fmt.Sprintf("board%02d", i+1)
		if err := b.exec(ctx, "postgres", "CREATE DATABASE "+name); err != nil {
			return err
		}
		reference, err := b.reference(name, b.url(name))
		if err != nil {
			return err
		}
		text := fmt.Sprintf("lane: %s\nenvironments: [{name: only, target: %q}]\n", name, reference)
		if err := b.declared(ctx, name, text, files); err != nil {
			return err
		}
		if err := b.promote(name, "-whole"); err != nil {
			return err
		}
	}
	before, err := b.sessions(ctx)
	if err != nil {
		return err
	}
	began := time.Now()
	seen, err := b.browse(ctx)
	if err != nil {
		return err
	}
	after, err := b.sessions(ctx)
	if err != nil {
		return err
	}
	lasted := time.Since(began).Seconds()
	every := lasted * boardLanes / float64(max(len(seen.looks), 1))
	slices.Sort(seen.took)
	b.lines = append(b.lines, line{
		work: fmt.Sprintf("the board: %d lanes, %s ledger rows, %d browsers", boardLanes, "100,000", boardBrowsers),
		aim:  "at most one look at a target every 2 s",
		figure: fmt.Sprintf("one every %.1f s; %.1f connections to a target in %.0f s; a page takes %d ms, the slowest %d ms",
			every, float64(after-before)/boardLanes, lasted,
			seen.took[len(seen.took)/2].Milliseconds(), seen.took[len(seen.took)-1].Milliseconds()),
		met: every >= 2,
	})
	return nil
}

// browsed is what browsers saw.
type browsed struct {
	took  []time.Duration // by each page
	looks map[string]bool // by lane and time
}

// browse reads the overview as browsers do that keep it open.
func (b *bench) browse(ctx context.Context) (seen browsed, err error) {
	within, cancel := context.WithTimeout(ctx, boardWatched)
	defer cancel()
	seen.looks = map[string]bool{}
	var browsers sync.WaitGroup
	var mu sync.Mutex
	for i := range boardBrowsers {
		browsers.Go(func() {
			time.Sleep(boardPoll * time.Duration(i) / boardBrowsers)
			for within.Err() == nil {
				var page api.Lanes
				one, failed := timed(func() (err error) { page, err = b.page(ctx); return err })
				mu.Lock()
				seen.took = append(seen.took, one)
				for _, l := range page.Lanes {
					for _, e := range l.Environments {
						if !e.ReadAt.IsZero() {
							seen.looks[l.Lane+e.ReadAt.String()] = true
						}
					}
				}
				if failed != nil {
					err = failed
				}
				mu.Unlock()
				time.Sleep(boardPoll)
			}
		})
	}
	browsers.Wait()
	return seen, err
}

// page reads the overview, as the console does.
func (b *bench) page(ctx context.Context) (page api.Lanes, err error) {
	body, err := b.get(ctx, "/api/v1/lanes?wait=1")
	if err != nil {
		return page, err
	}
	defer body.Close()
	return page, json.NewDecoder(body).Decode(&page)
}

// sessions is how many sessions the lanes' targets have had.
func (b *bench) sessions(ctx context.Context) (n int64, err error) {
	conn, err := pgx.Connect(ctx, b.url("postgres"))
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	return n, conn.QueryRow(ctx,
		"SELECT sum(sessions)::bigint FROM pg_stat_database WHERE datname LIKE 'board%'").Scan(&n)
}
