package records

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/core/access"
)

// AddAct keeps that something is about to be done, and returns its number.
func (r *Records) AddAct(ctx context.Context, a access.AuditEntry) (int64, error) {
	var id int64
	err := r.pool.QueryRow(ctx, `INSERT INTO records.audit (actor, via, address, operation, lane, environment, detail,
		status, result)
		VALUES ($1, $2, $3, $4, $5, $6, coalesce($7, '{}'::jsonb), nullif($8, 0), nullif($9, '')) RETURNING id`,
		a.Actor, a.Via, a.Address, a.Operation, a.Lane, a.Environment, a.Detail, a.Status, a.Result).
		Scan(&id)
	if err != nil {
		return 0, fmt.Errorf("keep who does what: %w", err)
	}
	return id, nil
}

// AnswerAct adds to an act what became of it. The act itself is kept for good
// already, so that the caller does not wait for the disk a second time.
func (r *Records) AnswerAct(ctx context.Context, id int64, detail json.RawMessage, status int, result string) error {
	_, err := r.pool.Exec(ctx, `WITH unhurried AS (SELECT set_config('synchronous_commit', 'off', true))
		UPDATE records.audit SET detail = coalesce($2, detail), status = $3, result = $4 FROM unhurried
			WHERE id = $1`, id, detail, status, result)
	return err
}

// Search says which acts are wanted. Empty fields mean any.
type Search struct {
	Actor, Operation, Lane, Environment string

	Text   string    // somewhere in the detail or the result
	Since  time.Time // not before
	Until  time.Time // before
	Before int64     // with a lower number
	Limit  int
}

// Acts returns the acts that were searched for, the newest first.
func (r *Records) Acts(ctx context.Context, s Search) ([]access.AuditEntry, error) {
	var since, until *time.Time
	if !s.Since.IsZero() {
		since = &s.Since
	}
	if !s.Until.IsZero() {
		until = &s.Until
	}
	rows, err := r.pool.Query(
		ctx,
		`SELECT `+actColumns+` FROM records.audit
		WHERE ($1 = '' OR actor = $1) AND ($2 = '' OR operation = $2) AND ($3 = '' OR lane = $3) AND ($4 = ''
			OR environment = $4 OR starts_with(environment, $4 || '.'))
		  AND ($5 = '' OR strpos(lower(detail::text || ' ' || coalesce(result, '') || ' ' || actor || ' ' || operation),
			lower($5)) > 0)
		  AND ($6::timestamptz IS NULL OR at >= $6) AND ($7::timestamptz IS NULL OR at < $7) AND ($8 = 0 OR id < $8)
		ORDER BY id DESC LIMIT $9`,
		s.Actor, s.Operation, s.Lane, s.Environment, s.Text, since, until, s.Before, s.Limit,
	)
	if err != nil {
		return nil, fmt.Errorf("search the audit: %w", err)
	}
	return pgx.CollectRows(rows, scanAct)
}

const actColumns = `id, at, actor, via, address, operation, lane, environment, detail, coalesce(status, 0), coalesce(result, '')`

func scanAct(row pgx.CollectableRow) (a access.AuditEntry, err error) {
	err = row.Scan(
		&a.ID, &a.At, &a.Actor, &a.Via, &a.Address, &a.Operation, &a.Lane, &a.Environment, &a.Detail, &a.Status,
		&a.Result,
	)
	return a, err
}

// ForgetActs lets go of the acts from before a time, the oldest first, some at a time, and says how many those
// were. Each lot is handed to keep before it goes; where keep fails, it stays, and those after it. A lot that was
// handed over may come again: the service can end in between.
func (r *Records) ForgetActs(
	ctx context.Context, before time.Time, keep func([]access.AuditEntry) error,
) (gone int64, err error) {
	for {
		rows, err := r.pool.Query(ctx, `SELECT `+actColumns+` FROM records.audit WHERE at < $1 ORDER BY id LIMIT $2`,
			before, atOnce)
		if err != nil {
			return gone, fmt.Errorf("read the old acts of the audit: %w", err)
		}
		lot, err := pgx.CollectRows(rows, scanAct)
		if err != nil || len(lot) == 0 {
			return gone, err
		}
		if err := keep(lot); err != nil {
			return gone, err
		}
		ids := make([]int64, len(lot))
		for i, a := range lot {
			ids[i] = a.ID
		}
		err = pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
			if _, err := tx.Exec(ctx, `SET LOCAL vorrang.audit_may_go = 'on'`); err != nil {
				return err
			}
			_, err := tx.Exec(ctx, `DELETE FROM records.audit WHERE id = ANY ($1)`, ids)
			return err
		})
		if err != nil {
			return gone, fmt.Errorf("let go of old acts of the audit: %w", err)
		}
		gone += int64(len(lot))
		if len(lot) < atOnce {
			return gone, nil
		}
	}
}
