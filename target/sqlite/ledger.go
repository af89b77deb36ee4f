package sqlite

import (
	"context"
	"database/sql/driver"
	_ "embed"
	"errors"
	"fmt"
	"slices"
	"time"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/step"
	"vorrang/target/words"
)

// createLedger makes the ledger; docs/ledger.md describes it.
//
//go:embed ledger.sql
var createLedger string

const ledgerTable = words.Ledger

const (
	readLedger = `SELECT seq, at, action, step, slug, checksum, deployment, actor, duration_ms, detail, prev_hash, hash
		FROM main.vorrang_ledger`
	insert = `INSERT INTO main.vorrang_ledger (seq, at, action, step, slug, checksum, deployment, actor, duration_ms,
		detail, prev_hash, hash) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`
)

// ReadLedger implements engine.Ledger.
func (s *Session) ReadLedger(ctx context.Context) (entries []ledger.Entry, exists bool, err error) {
	return s.ReadLedgerFrom(ctx, 0)
}

// ReadLedgerFrom implements engine.Ledger.
func (s *Session) ReadLedgerFrom(
	ctx context.Context, seq int64,
) (entries []ledger.Entry, exists bool, err error) {
	if exists, err = s.own.has(ctx, ledgerTable); err != nil || !exists {
		return nil, false, err
	}
	entries, err = s.own.entries(ctx, readLedger+" WHERE seq >= ? ORDER BY seq", seq)
	if err != nil {
		return nil, false, fmt.Errorf("read the ledger: %w", err)
	}
	return entries, true, nil
}

func (c *conn) entries(ctx context.Context, query string, args ...any) ([]ledger.Entry, error) {
	entries := []ledger.Entry{}
	err := c.query(ctx, query, args, func(row []driver.Value) error {
		at, err := time.Parse(ledger.AtLayout, str(row[1]))
		if err != nil {
			return fmt.Errorf("entry %s: %q is not a time", str(row[0]), str(row[1]))
		}
		seq, isNumber := row[0].(int64)
		duration, also := row[8].(int64)
		if !isNumber || !also {
			return fmt.Errorf("entry %s: its number or its duration is none", str(row[0]))
		}
		entries = append(
			entries,
			ledger.Entry{
				Seq:        seq,
				At:         at,
				Action:     ledger.Action(str(row[2])),
				Step:       step.Number(str(row[3])),
				Slug:       str(row[4]),
				Checksum:   step.Checksum(str(row[5])),
				Deployment: str(row[6]),
				Actor:      str(row[7]),
				DurationMS: duration,
				Detail:     []byte(str(row[9])),
				PrevHash:   str(row[10]),
				Hash:       str(row[11]),
			},
		)
		return nil
	})
	return entries, err
}

// LedgerAltered implements engine.Ledger: SQLite keeps the texts that made it.
func (s *Session) LedgerAltered(ctx context.Context) (string, error) {
	var found []string
	err := s.own.query(
		ctx,
		`SELECT sql FROM main.sqlite_schema WHERE tbl_name = ? AND sql IS NOT NULL ORDER BY rowid`,
		[]any{ledgerTable},
		func(row []driver.Value) error {
			found = append(found, str(row[0]))
			return nil
		},
	)
	if err != nil || len(found) == 0 {
		return "", err
	}
	made, err := cut([]byte(createLedger))
	if err != nil {
		return "", err
	}
	for _, statement := range made {
		at := slices.Index(found, string(statement.SQL))
		if at < 0 {
			return shapeOf(statement).name + " is gone, or is not as it was made", nil
		}
		found = slices.Delete(found, at, at+1)
	}
	if len(found) > 0 {
		return "something was added to it: " + found[0], nil
	}
	return "", nil
}

// CreateLedger implements engine.Ledger.
func (s *Session) CreateLedger(ctx context.Context) error {
	exists, err := s.own.has(ctx, ledgerTable)
	if err != nil || exists {
		return err
	}
	if err := s.own.exec(ctx, "BEGIN IMMEDIATE;\n"+createLedger+"COMMIT"); err != nil {
		return errors.Join(fmt.Errorf("create the ledger: %w", err), s.own.rollback())
	}
	return nil
}

// AppendAll implements engine.Ledger.
func (s *Session) AppendAll(ctx context.Context, entries []ledger.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	err := s.own.exec(ctx, "BEGIN IMMEDIATE")
	if err == nil {
		if err = s.own.write(ctx, entries); err == nil {
			err = s.own.exec(ctx, "COMMIT")
		}
	}
	if err != nil {
		return errors.Join(err, s.own.rollback())
	}
	return nil
}

// Append implements engine.Steps.
func (s *Session) Append(ctx context.Context, e ledger.Entry) error {
	return s.AppendAll(ctx, []ledger.Entry{e})
}

// Commit implements engine.Steps.
func (s *Session) Commit(ctx context.Context, entries ...ledger.Entry) error {
	if err := s.write(ctx, entries); err != nil {
		return err
	}
	return s.steps.ours(func() error { return s.steps.exec(ctx, "COMMIT") })
}

// Write implements engine.Steps.
func (s *Session) Write(ctx context.Context, e ledger.Entry) error {
	return s.write(ctx, []ledger.Entry{e})
}

func (s *Session) write(ctx context.Context, entries []ledger.Entry) error {
	return s.steps.ours(func() error {
		if err := s.checkReferences(ctx); err != nil {
			return err
		}
		return s.steps.write(ctx, entries)
	})
}

// write writes entries into the open transaction, and reads them back: a trigger may
// stand between. Its error is a *engine.LedgerError where the ledger refuses one.
func (c *conn) write(ctx context.Context, entries []ledger.Entry) error {
	for _, e := range entries {
		err := c.run(
			ctx, insert, e.Seq, e.At.UTC().Format(ledger.AtLayout), string(e.Action), string(e.Step), e.Slug,
			string(e.Checksum), e.Deployment, e.Actor, e.DurationMS, string(e.Detail), e.PrevHash, e.Hash,
		)
		var refused *engine.ServerError
		if errors.As(err, &refused) && refused.Kind == engine.Other {
			return &engine.LedgerError{Err: err}
		}
		if err != nil {
			return err
		}
		back, err := c.entries(ctx, readLedger+" WHERE seq = ?", e.Seq)
		if err != nil {
			return err
		}
		if len(back) != 1 || back[0].Hash != e.Hash || back[0].Sum() != e.Hash {
			return &engine.LedgerError{
				Err: fmt.Errorf("what stands there is not what was written; a trigger on %s changes it", ledgerTable),
			}
		}
	}
	return nil
}
