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
	At                time.Time
	Result            rehearsal.Result
}

// AddRehearsal keeps what came of a rehearsal.
func (r *Records) AddRehearsal(ctx context.Context, a Rehearsal) (Rehearsal, error) {
	body, err := json.Marshal(a.Result)
	if err == nil {
		err = r.pool.QueryRow(ctx, `INSERT INTO records.rehearsal (lane, environment, plan, fingerprint, body, actor, release, at)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING id`,
			a.Lane, a.Environment, a.Plan, a.Fingerprint, body, a.Actor, a.Release, a.At).Scan(&a.ID)
	}
	if err != nil {
		return a, fmt.Errorf("keep the rehearsal: %w", err)
	}
	return a, nil
}

// Rehearsed is the newest rehearsal of a plan on a schema with that fingerprint, or on
// another one if there is none. The error is ErrNotFound if the plan was never rehearsed.
func (r *Records) Rehearsed(ctx context.Context, lane, environment, plan, fingerprint string) (Rehearsal, error) {
	a := Rehearsal{Lane: lane, Environment: environment, Plan: plan}
	var body []byte
	err := r.pool.QueryRow(ctx, `SELECT id, fingerprint, body, actor, release, at FROM records.rehearsal
		WHERE lane = $1 AND environment = $2 AND plan = $3 ORDER BY fingerprint = $4 DESC, id DESC LIMIT 1`,
		lane, environment, plan, fingerprint).Scan(&a.ID, &a.Fingerprint, &body, &a.Actor, &a.Release, &a.At)
	if errors.Is(err, pgx.ErrNoRows) {
		return a, ErrNotFound
	}
	if err == nil {
		err = json.Unmarshal(body, &a.Result)
	}
	if err != nil {
		return a, fmt.Errorf("read the rehearsal: %w", err)
	}
	return a, nil
}
