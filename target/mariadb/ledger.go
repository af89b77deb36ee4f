package mariadb

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
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
	columns = `seq, DATE_FORMAT(at, '%Y-%m-%dT%H:%i:%s.%fZ'), action, step, slug, checksum, deployment, actor,
		duration_ms, detail, prev_hash, hash`
	readLedger = `SELECT ` + columns + ` FROM vorrang_ledger`
	insert     = `SET STATEMENT sql_mode = 'STRICT_TRANS_TABLES,NO_ENGINE_SUBSTITUTION', max_statement_time = 0,
		foreign_key_checks = 1, unique_checks = 1 FOR INSERT INTO vorrang_ledger (seq, at, action, step, slug, checksum,
		deployment, actor, duration_ms, detail, prev_hash, hash) VALUES `
	place    = `(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`
	atLayout = "2006-01-02 15:04:05.000000"
)

// errNotHeld says that nothing may be written any more.
var errNotHeld = errors.New("the target's lock is no longer held by this session")

// ReadLedger implements engine.Ledger.
func (s *Session) ReadLedger(ctx context.Context) (entries []ledger.Entry, exists bool, err error) {
	return s.ReadLedgerFrom(ctx, 0)
}

// ReadLedgerFrom implements engine.Ledger.
func (s *Session) ReadLedgerFrom(
	ctx context.Context, seq int64,
) (entries []ledger.Entry, exists bool, err error) {
	where := ""
	if seq > 0 {
		where = fmt.Sprintf(" WHERE seq >= %d", seq)
	}
	entries, err = s.own.entries(ctx, readLedger+where+" ORDER BY seq")
	var refused *engine.ServerError
	if errors.As(err, &refused) && refused.Kind == engine.Missing {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, fmt.Errorf("read the ledger: %w", err)
	}
	return entries, true, nil
}

// entryColumns is how many columns an entry has. One behind them says whether the lock is held.
const entryColumns = 12

func (c *conn) entries(ctx context.Context, query string, args ...any) ([]ledger.Entry, error) {
	entries := []ledger.Entry{}
	err := c.each(ctx, query, args, func(row []string) error {
		if len(row) > entryColumns && row[entryColumns] != "1" {
			return errNotHeld
		}
		at, err := time.Parse(ledger.AtLayout, row[1])
		seq, bad := strconv.ParseInt(row[0], 10, 64)
		duration, also := strconv.ParseInt(row[8], 10, 64)
		if err := errors.Join(err, bad, also); err != nil {
			return fmt.Errorf("entry %s cannot be read: %w", row[0], err)
		}
		entries = append(
			entries,
			ledger.Entry{
				Seq:        seq,
				At:         at,
				Action:     ledger.Action(row[2]),
				Step:       step.Number(row[3]),
				Slug:       row[4],
				Checksum:   step.Checksum(row[5]),
				Deployment: row[6],
				Actor:      row[7],
				DurationMS: duration,
				Detail:     []byte(row[9]),
				PrevHash:   row[10],
				Hash:       row[11],
			},
		)
		return nil
	})
	return entries, err
}

// ledgerColumns are those of ledger.sql, and ledgerTriggers what its triggers do.
const (
	ledgerColumns = "seq bigint(20) NO, at datetime(6) NO, action varchar(40) NO, step varchar(255) NO, slug " +
		"varchar(255) NO, checksum varchar(80) NO, deployment varchar(255) NO, " +
		"actor text NO, duration_ms bigint(20) NO, detail longtext NO, prev_hash char(64) NO, hash char(64) NO"
	ledgerTriggers = "BEFORE DELETE SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'the ledger is append-only: DELETE is " +
		"refused'; " +
		"BEFORE UPDATE SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'the ledger is append-only: UPDATE is refused'"
)

// LedgerAltered implements engine.Ledger. The server opens no other table where a condition
// names this one literally, so there is a question for each list.
func (s *Session) LedgerAltered(ctx context.Context) (string, error) {
	var kind, storage, columns, triggers string
	read := func(into []*string, query string) error {
		return s.own.each(ctx, query, []any{ledgerTable}, func(row []string) error {
			for i := range into {
				*into[i] = row[i]
			}
			return nil
		})
	}
	err := read([]*string{&kind, &storage}, `SELECT TABLE_TYPE, COALESCE(ENGINE, '') FROM information_schema.TABLES
		WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?`)
	if err == nil {
		err = read([]*string{&columns}, `SELECT GROUP_CONCAT(COLUMN_NAME, ' ', COLUMN_TYPE, ' ', IS_NULLABLE
				ORDER BY ORDINAL_POSITION SEPARATOR ', ')
			FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?`)
	}
	if err == nil {
		err = read([]*string{&triggers}, `SELECT GROUP_CONCAT(ACTION_TIMING, ' ', EVENT_MANIPULATION, ' ', ACTION_STATEMENT
				ORDER BY EVENT_MANIPULATION, TRIGGER_NAME SEPARATOR '; ')
			FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = DATABASE() AND EVENT_OBJECT_TABLE = ?`)
	}
	switch {
	case err != nil || kind == "":
		return "", err
	case kind != "BASE TABLE" || storage != "InnoDB":
		return fmt.Sprintf("it is a %s of %s, and was made as a table of InnoDB", strings.ToLower(kind), storage), nil
	case columns != ledgerColumns:
		return "its columns are others", nil
	case triggers != ledgerTriggers:
		return "its triggers are others: they were changed, dropped, or some were added", nil
	}
	return "", nil
}

// CreateLedger implements engine.Ledger. The server commits after each statement, so
// each makes only what is not there.
func (s *Session) CreateLedger(ctx context.Context) error {
	statements, err := cut([]byte(createLedger))
	if err != nil {
		return err
	}
	for _, statement := range statements {
		if err := s.own.exec(ctx, string(statement.SQL)); err != nil {
			return fmt.Errorf(
				"create the ledger (the URL's user needs CREATE and TRIGGER on the database; with binary logs and without SUPER "+
					"the server needs log_bin_trust_function_creators): %w",
				err,
			)
		}
	}
	return nil
}

// AppendAll implements engine.Ledger.
func (s *Session) AppendAll(ctx context.Context, entries []ledger.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	err := s.own.write(ctx, entries, true, "1")
	if err == nil {
		err = s.own.exec(ctx, "COMMIT")
	}
	if err != nil && !s.own.lost {
		return errors.Join(err, s.own.exec(context.WithoutCancel(ctx), "ROLLBACK"))
	}
	return err
}

// Append implements engine.Steps.
func (s *Session) Append(ctx context.Context, e ledger.Entry) error {
	return s.AppendAll(ctx, []ledger.Entry{e})
}

// Commit implements engine.Steps. What the step had set is out of force while the
// ledger is written.
func (s *Session) Commit(ctx context.Context, entries ...ledger.Entry) error {
	if len(entries) > 0 {
		if err := s.writeWithStep(ctx, entries); err != nil {
			return err
		}
	}
	s.sure = false
	err := s.steps.exec(ctx, "COMMIT")
	if err == nil {
		s.within, s.sure = false, s.clean // what a step has set may begin the next transaction at once
	}
	return err
}

// Write implements engine.Steps.
func (s *Session) Write(ctx context.Context, e ledger.Entry) error {
	return s.writeWithStep(ctx, []ledger.Entry{e})
}

// neutral takes a step's settings out of force. None of it ends a transaction.
const neutral = "SET NAMES utf8mb4 COLLATE utf8mb4_bin, SESSION sql_mode = " +
	"'STRICT_TRANS_TABLES,NO_ENGINE_SUBSTITUTION', SESSION max_statement_time = 0, " +
	"SESSION foreign_key_checks = 1, SESSION unique_checks = 1, SESSION sql_safe_updates = 0"

func (s *Session) writeWithStep(ctx context.Context, entries []ledger.Entry) error {
	in, err := s.inTransaction(ctx)
	if err != nil {
		return err
	}
	var statements []string
	if !s.clean {
		statements = append(statements, "SET ROLE NONE", neutral)
	} else if s.set.Role != "" {
		statements, s.clean = append(statements, "SET ROLE NONE"), false
	}
	if err := s.steps.exec(ctx, statements...); err != nil {
		return err
	}
	begins := s.lazy || !in // what was done before has committed by itself
	held := "1"
	if s.locked {
		held = s.held()
	}
	s.lazy, s.within, s.sure = false, true, true
	err = s.steps.write(ctx, entries, begins, held)
	s.proved = err == nil
	return err
}

// write writes entries into a transaction, which it begins or is in already, and reads them
// back: a trigger may stand between. held is an expression that is 1 where it may be done. Its
// error is a *engine.LedgerError where the ledger refuses one.
func (c *conn) write(ctx context.Context, entries []ledger.Entry, begins bool, held string) error {
	const most = 500 // in one statement
	for some := range slices.Chunk(entries, most) {
		var args []any
		for _, e := range some {
			args = append(
				args, e.Seq, e.At.UTC().Format(atLayout), string(e.Action), string(e.Step), e.Slug,
				string(e.Checksum), e.Deployment, e.Actor, e.DurationMS, string(e.Detail), e.PrevHash, e.Hash,
			)
		}
		places := strings.TrimSuffix(strings.Repeat(place+", ", len(some)), ", ")
		query := insert + places + " RETURNING " + columns + ", " + held
		if begins { // in one round trip
			query, begins = "BEGIN NOT ATOMIC START TRANSACTION; "+query+"; END", false
		}
		back, err := c.entries(ctx, query, args...)
		if errors.Is(err, errNotHeld) {
			c.lost = true
			return &engine.LostError{Err: err}
		}
		var refused *engine.ServerError
		if errors.As(err, &refused) && refused.Kind != engine.LockTimeout {
			return &engine.LedgerError{Err: err}
		}
		if err != nil {
			return err
		}
		if !slices.EqualFunc(
			back, some,
			func(a, b ledger.Entry) bool { return a.Hash == b.Hash && a.Sum() == b.Hash },
		) {
			return &engine.LedgerError{
				Err: fmt.Errorf("what stands there is not what was written; a trigger on %s changes it", ledgerTable),
			}
		}
	}
	return nil
}
