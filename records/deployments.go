package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
)

// Deployment is one carrying-out of a plan on one environment.
type Deployment struct {
	ID          int64
	Lane        string
	Environment string
	Direction   ledger.Direction
	Outcome     deploy.Outcome
	Actor       string
	Plan        plan.Plan   // without its actions in a list
	Planned     int         // its actions
	Gate        gate.Result // empty in a list
	Failure     *deploy.Failure
	Release     string // empty for loose steps
	Digest      step.Checksum
	StartedAt   time.Time
	EndedAt     *time.Time
}

const (
	deploymentColumns = `id, lane, environment, direction, outcome, actor, plan, gate, ` + moreColumns
	// listedColumns leave out what is long, and in no list.
	listedColumns = `id, lane, environment, direction, outcome, actor, plan - 'actions', '{}'::jsonb, ` + moreColumns

	moreColumns = `CASE jsonb_typeof(plan -> 'actions') WHEN 'array' THEN jsonb_array_length(plan -> 'actions') ELSE 0 END,
		failure, coalesce(release, ''), coalesce(digest, ''), started_at, ended_at`
)

func scanDeployment(row pgx.CollectableRow) (Deployment, error) {
	var d Deployment
	err := row.Scan(
		&d.ID, &d.Lane, &d.Environment, &d.Direction, &d.Outcome, &d.Actor, &d.Plan, &d.Gate, &d.Planned, &d.Failure,
		&d.Release, &d.Digest, &d.StartedAt, &d.EndedAt,
	)
	return d, err
}

// RunningError says that an environment has a deployment under way.
type RunningError struct{ Deployment Deployment }

func (e *RunningError) Error() string {
	d := e.Deployment
	return fmt.Sprintf("deployment %d, started by %s, has been running on %s since %s",
		d.ID, d.Actor, d.Environment, d.StartedAt.UTC().Format(time.DateTime+" UTC"))
}

// Begin records a new running deployment. An environment has one at a time: a
// second one is a *RunningError. It uses up the waivers that turned its gate.
func (r *Records) Begin(ctx context.Context, d Deployment) (Deployment, error) {
	if err := r.guard.ours(); err != nil {
		return d, err
	}
	waivers := make([]int64, len(d.Gate.Waivers))
	for i, w := range d.Gate.Waivers {
		waivers[i] = w.ID
	}
	for {
		var begun Deployment
		err := pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) (err error) {
			rows, _ := tx.Query(
				ctx,
				`INSERT INTO records.deployment (lane, environment, direction, outcome, actor, plan, gate, release, digest)
				VALUES ($1, $2, $3, $4, $5, $6, $7, nullif($8, ''), nullif($9, '')) RETURNING `+deploymentColumns,
				d.Lane, d.Environment, d.Direction, deploy.Running, d.Actor, d.Plan, d.Gate, d.Release, d.Digest,
			)
			if begun, err = pgx.CollectExactlyOneRow(rows, scanDeployment); err != nil || len(waivers) == 0 {
				return err
			}
			tag, err := tx.Exec(
				ctx,
				`UPDATE records.waiver SET deployment = $2 WHERE id = ANY ($1) AND deployment IS NULL`,
				waivers, begun.ID,
			)
			if err == nil && tag.RowsAffected() != int64(len(waivers)) {
				err = errors.New("another deployment has just used the waiver")
			}
			return err
		})
		var refused *pgconn.PgError
		if err == nil || !errors.As(err, &refused) || refused.Code != "23505" {
			return begun, err
		}
		running, err := r.Running(ctx, d.Lane, d.Environment)
		if err != nil {
			return begun, err
		}
		if running != nil { // else it has just ended, and there is room
			return begun, &RunningError{*running}
		}
	}
}

// Running returns the deployment that is under way on an environment, or nil.
func (r *Records) Running(ctx context.Context, lane, environment string) (*Deployment, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+deploymentColumns+` FROM records.deployment
		WHERE lane = $1 AND environment = $2 AND outcome = 'running'`, lane, environment)
	if err != nil {
		return nil, fmt.Errorf("look for a running deployment: %w", err)
	}
	list, err := pgx.CollectRows(rows, scanDeployment)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// End records how a deployment ended.
func (r *Records) End(ctx context.Context, id int64, outcome deploy.Outcome, failure *deploy.Failure) error {
	_, err := r.pool.Exec(
		ctx,
		`UPDATE records.deployment SET outcome = $2, failure = $3, ended_at = now() WHERE id = $1 AND outcome = 'running'`,
		id, outcome, failure,
	)
	return err
}

// SaveGate replaces what the gate said, as it was asked again right before the
// first statement.
func (r *Records) SaveGate(ctx context.Context, id int64, result gate.Result) error {
	_, err := r.pool.Exec(ctx, `WITH unhurried AS (SELECT set_config('synchronous_commit', 'off', true))
		UPDATE records.deployment SET gate = $2 FROM unhurried
			WHERE id = $1`, id, result) // the first answer is kept for good
	return err
}

// Deployment returns one deployment, or ErrNotFound.
func (r *Records) Deployment(ctx context.Context, id int64) (Deployment, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+deploymentColumns+` FROM records.deployment WHERE id = $1`, id)
	if err != nil {
		return Deployment{}, err
	}
	d, err := pgx.CollectExactlyOneRow(rows, scanDeployment)
	return d, noRows(err)
}

// PlaceOf says on which environment a deployment is or was, or ErrNotFound.
func (r *Records) PlaceOf(ctx context.Context, id int64) (lane, environment string, err error) {
	err = r.pool.QueryRow(ctx, `SELECT lane, environment FROM records.deployment WHERE id = $1`, id).
		Scan(&lane, &environment)
	return lane, environment, noRows(err)
}

// DeploymentQuery says which deployments are wanted; an empty field means all.
type DeploymentQuery struct {
	Lane, Environment string
	Outcome           deploy.Outcome
	Actor             string
	Step              step.Number // of the plan
	Release           string
	Before            int64 // only those before this one; 0 for the newest
	Limit             int
}

// Deployments returns deployments, the newest first.
func (r *Records) Deployments(ctx context.Context, q DeploymentQuery) ([]Deployment, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+listedColumns+` FROM records.deployment
		WHERE ($1 = '' OR lane = $1) AND ($2 = '' OR environment = $2) AND ($3 = '' OR outcome = $3)
			AND ($4 = '' OR actor = $4) AND ($5 = '' OR plan @> jsonb_build_object('actions',
				jsonb_build_array(jsonb_build_object('step', jsonb_build_object('number', $5::text)))))
			AND ($6 = '' OR release = $6) AND ($7::bigint = 0 OR id < $7)
		ORDER BY id DESC LIMIT $8`,
		q.Lane, q.Environment, q.Outcome, q.Actor, q.Step, q.Release, q.Before, q.Limit)
	if err != nil {
		return nil, fmt.Errorf("read the deployments: %w", err)
	}
	return pgx.CollectRows(rows, scanDeployment)
}

// AddEvents keeps events of a deployment. Events that are kept already stay as
// they are.
func (r *Records) AddEvents(ctx context.Context, id int64, events []deploy.Event) error {
	numbers, bodies := make([]int64, len(events)), make([]string, len(events))
	for i, e := range events {
		body, err := json.Marshal(e)
		if err != nil {
			return err
		}
		numbers[i], bodies[i] = e.Seq, string(body)
	}
	_, err := r.pool.Exec(ctx, `INSERT INTO records.event (deployment, seq, body)
		SELECT $1, seq, body::jsonb FROM unnest($2::bigint[], $3::text[]) e (seq, body)
			ON CONFLICT DO NOTHING`, id, numbers, bodies)
	if err != nil {
		return fmt.Errorf("keep the events of deployment %d: %w", id, err)
	}
	return nil
}

// Events returns a deployment's events after a number, oldest first.
func (r *Records) Events(ctx context.Context, id, after int64, limit int) ([]deploy.Event, error) {
	rows, err := r.pool.Query(
		ctx,
		`SELECT body FROM records.event WHERE deployment = $1 AND seq > $2 ORDER BY seq LIMIT $3`,
		id, after, limit,
	)
	if err != nil {
		return nil, fmt.Errorf("read the events of deployment %d: %w", id, err)
	}
	return pgx.CollectRows(rows, pgx.RowTo[deploy.Event])
}

// Measured returns the events of a deployment that tell what a step did to its
// surroundings.
func (r *Records) Measured(ctx context.Context, id int64) ([]deploy.Event, error) {
	rows, err := r.pool.Query(
		ctx,
		`SELECT body FROM records.event WHERE deployment = $1 AND body->>'kind' = $2 ORDER BY seq`,
		id, deploy.Measured,
	)
	if err != nil {
		return nil, fmt.Errorf("read what deployment %d measured: %w", id, err)
	}
	return pgx.CollectRows(rows, pgx.RowTo[deploy.Event])
}

// Orphans returns the deployments that an earlier run of the service left
// running, oldest first.
func (r *Records) Orphans(ctx context.Context) ([]Deployment, error) {
	rows, err := r.pool.Query(
		ctx,
		`SELECT `+deploymentColumns+` FROM records.deployment WHERE outcome = 'running' ORDER BY id`,
	)
	if err != nil {
		return nil, fmt.Errorf("look for interrupted deployments: %w", err)
	}
	return pgx.CollectRows(rows, scanDeployment)
}

// LastSeq is the number of a deployment's newest event, or 0.
func (r *Records) LastSeq(ctx context.Context, id int64) (int64, error) {
	var seq int64
	err := r.pool.QueryRow(ctx, `SELECT coalesce(max(seq), 0) FROM records.event WHERE deployment = $1`, id).Scan(&seq)
	return seq, err
}
