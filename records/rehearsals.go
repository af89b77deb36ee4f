package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/core/deploy"
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
			`INSERT INTO records.rehearsal (lane, environment, plan, fingerprint, body, actor, release, at, rows, state, service)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) RETURNING id`,
			a.Lane, a.Environment, a.Plan, a.Fingerprint, body, a.Actor, a.Release, a.At, a.Rows, a.State, r.life.id,
		).Scan(&a.ID)
	}
	if err != nil {
		return a, fmt.Errorf("keep the rehearsal: %w", err)
	}
	return a, nil
}

// EndRehearsal keeps what came of a rehearsal of this service.
func (r *Records) EndRehearsal(ctx context.Context, a Rehearsal) error {
	body, err := json.Marshal(a.Result)
	if err == nil {
		_, err = r.pool.Exec(ctx, `WITH told AS (SELECT pg_notify($6, 'rehearsal ' || $1::bigint))
			UPDATE records.rehearsal SET state = $2, message = $3, body = $4, ended_at = $5 FROM told
			WHERE id = $1 AND state = 'running' AND service = $7`,
			a.ID, a.State, a.Message, body, a.EndedAt, channel, r.life.id)
	}
	if err != nil {
		return fmt.Errorf("keep the rehearsal: %w", err)
	}
	return nil
}

// CloseRehearsals ends those whose service does not live any more.
func (r *Records) CloseRehearsals(ctx context.Context, at time.Time) error {
	_, err := r.pool.Exec(ctx, `WITH closed AS (UPDATE records.rehearsal
			SET state = $1, ended_at = $2, message = 'the service ended while it ran', service = $4
			WHERE state = $3 AND records.lives($4) AND (service IS NULL OR service <> $4 AND NOT records.lives(service))
			RETURNING id)
		SELECT pg_notify($5, 'rehearsal ' || id) FROM closed`,
		rehearsal.Interrupted, at, rehearsal.Running, r.life.id, channel)
	if err != nil {
		return fmt.Errorf("end interrupted rehearsals: %w", err)
	}
	return nil
}

// AskCancelRehearsal asks the service that runs a rehearsal to cancel it; false if it does not
// run.
func (r *Records) AskCancelRehearsal(ctx context.Context, id int64, who string) (bool, error) {
	return r.askCancel(ctx, `UPDATE records.rehearsal SET cancel = $2 WHERE id = $1 AND state = 'running'`, id, who)
}

// AddRehearsalEvents keeps what a rehearsal of this service tells. What is kept already stays
// as it is.
func (r *Records) AddRehearsalEvents(ctx context.Context, id int64, events []deploy.Event) error {
	numbers, bodies, err := eventRows(events)
	if err == nil {
		_, err = r.pool.Exec(ctx, `WITH told AS (SELECT pg_notify($4, 'rehearsal ' || $1::bigint))
			INSERT INTO records.rehearsal_event (rehearsal, seq, body)
			SELECT $1, seq, body::jsonb FROM told, unnest($2::bigint[], $3::text[]) e (seq, body) ON CONFLICT DO NOTHING`,
			id, numbers, bodies, channel)
	}
	if err != nil {
		return fmt.Errorf("keep the events of rehearsal %d: %w", id, err)
	}
	return nil
}

// RehearsalEvents returns a rehearsal's events after a number, oldest first.
func (r *Records) RehearsalEvents(ctx context.Context, id, after int64, limit int) ([]deploy.Event, error) {
	return r.events(ctx, fmt.Sprintf("rehearsal %d", id),
		`SELECT body FROM records.rehearsal_event WHERE rehearsal = $1 AND seq > $2 ORDER BY seq LIMIT $3`, id, after, limit)
}

// Rehearsal is the one of an environment with an id. The error is ErrNotFound if there is
// none.
func (r *Records) Rehearsal(ctx context.Context, lane, environment string, id int64) (Rehearsal, error) {
	return r.oneRehearsal(ctx, `id = $1 AND lane = $2 AND environment = $3`, id, lane, environment)
}

// Rehearsals are the newest ones of an environment. The search is for who began it, a release, how it
// ended, or a message.
func (r *Records) Rehearsals(
	ctx context.Context, lane, environment string, q ListQuery,
) ([]Rehearsal, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+rehearsalColumns+` FROM records.rehearsal WHERE lane = $1 AND environment = $2
			AND ($3::bigint = 0 OR id < $3) AND `+containing(`concat_ws(E'\n', actor, coalesce(nullif(release, ''), 'loose steps'), message,
				CASE WHEN state <> 'ended' THEN state WHEN body @> '{"passed": true}' THEN 'passed' ELSE 'did not pass' END)`, "$5")+`
		ORDER BY id DESC LIMIT $4`, lane, environment, q.Before, q.most(), q.Search)
	if err != nil {
		return nil, fmt.Errorf("read the rehearsals: %w", err)
	}
	return pgx.CollectRows(rows, scanRehearsal)
}

// Rehearsed is the newest rehearsal of a plan on a schema with that fingerprint that came
// to its end, or on another one if there is none. One for another target of the same fleet counts if its schema is
// the same. The error is ErrNotFound if the plan was never rehearsed.
func (r *Records) Rehearsed(ctx context.Context, lane, environment, plan, fingerprint string) (Rehearsal, error) {
	return r.oneRehearsal(ctx, `lane = $1 AND plan = $3 AND state = 'ended' AND (environment = $2
			OR starts_with(environment, $5 || '.') AND fingerprint = $4)
		ORDER BY fingerprint = $4 DESC, id DESC LIMIT 1`, lane, environment, plan, fingerprint, whole(environment))
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
