package postgres

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"vorrang/core/ledger"
	"vorrang/core/sqltext"
)

//go:embed ledger.sql
var createLedger string

const readLedger = `SELECT seq, at, action, step, slug, checksum, deployment, actor, duration_ms, detail::text, prev_hash, hash
FROM vorrang.ledger ORDER BY seq`

// ReadLedger returns all entries, oldest first. exists is false for a target
// that has no ledger.
func (s *Session) ReadLedger(ctx context.Context) (entries []ledger.Entry, exists bool, err error) {
	rows, err := s.conn.Query(ctx, readLedger, pgx.QueryResultFormats{pgx.BinaryFormatCode})
	if err == nil {
		entries, err = pgx.AppendRows(make([]ledger.Entry, 0, 256), rows, scanEntry)
	}
	var refused *pgconn.PgError
	if errors.As(err, &refused) && (refused.Code == "42P01" || refused.Code == "3F000") {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, fmt.Errorf("read the ledger: %w", s.wrap(err))
	}
	return entries, true, nil
}

func scanEntry(row pgx.CollectableRow) (ledger.Entry, error) {
	var e ledger.Entry
	var detail string
	err := row.Scan(&e.Seq, &e.At, (*string)(&e.Action), (*string)(&e.Step), &e.Slug, (*string)(&e.Checksum), &e.Deployment, &e.Actor,
		&e.DurationMS, &detail, &e.PrevHash, &e.Hash)
	e.At, e.Detail = e.At.UTC(), []byte(detail)
	return e, err
}

// LockKey is the advisory lock that every deployment takes, for files that are
// run without Vorrang.
const LockKey = lockKey

// CreateLedgerSQL is the SQL of CreateLedger.
func CreateLedgerSQL() string { return createLedger }

// CreateLedger makes the ledger where there is none, in a transaction of its
// own. It may be repeated. Call it under the target's lock.
func (s *Session) CreateLedger(ctx context.Context) error {
	var exists bool
	if err := s.conn.QueryRow(ctx, `SELECT to_regclass('vorrang.ledger') IS NOT NULL`).Scan(&exists); err != nil {
		return fmt.Errorf("look for the ledger: %w", s.wrap(err))
	}
	if exists {
		return nil
	}
	if err := s.exec(ctx, "BEGIN;\n"+createLedger+"\nCOMMIT"); err != nil {
		_ = s.Rollback(ctx)
		return fmt.Errorf("create the ledger (the user of the target's URL needs the right to create a schema): %w", err)
	}
	return nil
}

// Commit implements deploy.Target: the entries and everything since Begin
// become lasting together.
func (s *Session) Commit(ctx context.Context, entries ...ledger.Entry) error {
	sql := []string{"RESET SESSION AUTHORIZATION", "RESET ROLE"}
	for _, e := range entries {
		sql = append(sql, insertEntry(e))
	}
	return s.exec(ctx, strings.Join(append(sql, "COMMIT"), "; "))
}

// AppendAll writes entries in one transaction of their own.
func (s *Session) AppendAll(ctx context.Context, entries []ledger.Entry) error {
	if err := s.exec(ctx, "BEGIN"); err != nil {
		return err
	}
	if err := s.Commit(ctx, entries...); err != nil {
		_ = s.Rollback(ctx) // the refusal is what matters
		return err
	}
	return nil
}

// Append implements deploy.Target.
func (s *Session) Append(ctx context.Context, e ledger.Entry) error {
	role := ""
	if s.role != "" {
		role = "; SET ROLE " + sqltext.Identifier(s.role)
	}
	return s.exec(ctx, "RESET SESSION AUTHORIZATION; RESET ROLE; "+insertEntry(e)+role)
}

func insertEntry(e ledger.Entry) string {
	return "INSERT INTO vorrang.ledger VALUES (" + strings.Join([]string{
		strconv.FormatInt(e.Seq, 10), sqltext.Literal(e.At.UTC().Format(ledger.AtLayout)), sqltext.Literal(string(e.Action)), sqltext.Literal(string(e.Step)),
		sqltext.Literal(e.Slug), sqltext.Literal(string(e.Checksum)), sqltext.Literal(e.Deployment), sqltext.Literal(e.Actor),
		strconv.FormatInt(e.DurationMS, 10), sqltext.Literal(string(e.Detail)), sqltext.Literal(e.PrevHash), sqltext.Literal(e.Hash),
	}, ", ") + ")"
}
