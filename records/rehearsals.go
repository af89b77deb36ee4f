package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/core/rehearsal"
)

// Rehearsal is a plan that was tried on a copy of its target.
type Rehearsal struct {
	ID                int64
	Lane, Environment string
	Plan              string // its digest
	Fingerprint       string // of the target's schema then, without owners and grants
	Release           string // empty for loose steps
	Actor             string
	At                time.Time // when it began
	EndedAt           *time.Time
	Rows              int // of each table, that were asked for
	State             rehearsal.State
	Message           string // why it has no result
	Result            rehearsal.Result
}

const rehearsalColumns = `id, lane, environment, plan, fingerprint, release, actor, at, ended_at, rows, state, message,
	body`

func scanRehearsal(row pgx.CollectableRow) (a Rehearsal, err error) {
	var body []byte
	err = row.Scan(
		&a.ID,
		&a.Lane,
		&a.Environment,
		&a.Plan,
		&a.Fingerprint,
		&a.Release,
		&a.Actor,
		&a.At,
		&a.EndedAt,
		&a.Rows,
		&a.State,
		&a.Message,
		&body,
	)
	if err == nil {
		err = json.Unmarshal(body, &a.Result)
	}
	return a, err
}

// BeginRehearsal keeps that a rehearsal runs.
func (r *Records) BeginRehearsal(ctx context.Context, a Rehearsal) (Rehearsal, error) {
	a.State = rehearsal.Running
	body, err := json.Marshal(a.Result)
	if err == nil {
		err = r.pool.QueryRow(
			ctx,
			`INSERT INTO records.rehearsal (lane, environment, plan, fingerprint, body, actor, release, at, rows, state)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) RETURNING id`,
			a.Lane, a.Environment, a.Plan, a.Fingerprint, body, a.Actor, a.Release, a.At, a.Rows, a.State,
		).Scan(&a.ID)
	}
	if err != nil {
		return a, fmt.Errorf("keep the rehearsal: %w", err)
	}
	return a, nil
}

// EndRehearsal keeps what came of a rehearsal.
func (r *Records) EndRehearsal(ctx context.Context, a Rehearsal) error {
	body, err := json.Marshal(a.Result)
	if err == nil {
		_, err = r.pool.Exec(ctx, `UPDATE records.rehearsal SET state = $2, message = $3, body = $4, ended_at = $5
			WHERE id = $1`,
			a.ID, a.State, a.Message, body, a.EndedAt)
	}
	if err != nil {
		return fmt.Errorf("keep the rehearsal: %w", err)
	}
	return nil
}

// CloseRehearsals ends those that a killed service left running.
func (r *Records) CloseRehearsals(ctx context.Context, at time.Time) error {
	_, err := r.pool.Exec(ctx, `UPDATE records.rehearsal
		SET state = $1, ended_at = $2, message = 'the service ended while it ran'
		WHERE state = $3`, rehearsal.Interrupted, at, rehearsal.Running)
	if err != nil {
		return fmt.Errorf("end interrupted rehearsals: %w", err)
	}
	return nil
}

// Rehearsal is the one of an environment with an id. The error is ErrNotFound if there is
// none.
func (r *Records) Rehearsal(ctx context.Context, lane, environment string, id int64) (Rehearsal, error) {
	return r.oneRehearsal(ctx, `id = $1 AND lane = $2 AND environment = $3`, id, lane, environment)
}

// Rehearsals are the newest ones of an environment.
func (r *Records) Rehearsals(
	ctx context.Context, lane, environment string, before int64, limit int,
) ([]Rehearsal, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+rehearsalColumns+` FROM records.rehearsal WHERE lane = $1 AND environment = $2
		AND ($3::bigint = 0 OR id < $3) ORDER BY id DESC LIMIT $4`, lane, environment, before, limit)
	if err != nil {
		return nil, fmt.Errorf("read the rehearsals: %w", err)
	}
	return pgx.CollectRows(rows, scanRehearsal)
}

// Rehearsed is the newest rehearsal of a plan on a schema with that fingerprint that came
// to its end, or on another one if there is none. The error is ErrNotFound if the plan was
// never rehearsed.
func (r *Records) Rehearsed(ctx context.Context, lane, environment, plan, fingerprint string) (Rehearsal, error) {
	return r.oneRehearsal(ctx, `lane = $1 AND environment = $2 AND plan = $3 AND state = 'ended'
		ORDER BY fingerprint = $4 DESC, id DESC LIMIT 1`, lane, environment, plan, fingerprint)
}

func (r *Records) oneRehearsal(ctx context.Context, where string, args ...any) (Rehearsal, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+rehearsalColumns+` FROM records.rehearsal WHERE `+where, args...)
	if err != nil {
		return Rehearsal{}, fmt.Errorf("read the rehearsal: %w", err)
	}
	a, err := pgx.CollectExactlyOneRow(rows, scanRehearsal)
	if errors.Is(err, pgx.ErrNoRows) {
		return a, ErrNotFound
	}
	if err != nil {
		return a, fmt.Errorf("read the rehearsal: %w", err)
	}
	return a, nil
}
