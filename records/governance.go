package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/core/gate"
	"vorrang/core/step"
)

// AddApproval keeps an approval of a release on an environment.
func (r *Records) AddApproval(ctx context.Context, lane, environment string, a gate.Approval) (gate.Approval, error) {
	err := r.pool.QueryRow(ctx, `INSERT INTO records.approval (lane, environment, release, digest, seq, steps, note,
		given_by, given_at)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
			RETURNING id`, lane, environment, a.Release, a.Digest, a.Seq, a.Steps, a.Note, a.By, a.At).
		Scan(&a.ID)
	if err != nil {
		return a, fmt.Errorf("keep the approval: %w", err)
	}
	return a, nil
}

// Approvals returns the approvals of anything on an environment, the oldest first.
func (r *Records) Approvals(ctx context.Context, lane, environment string) ([]gate.Approval, error) {
	rows, err := r.pool.Query(
		ctx,
		`SELECT id, release, digest, seq, steps, note, given_by, given_at FROM records.approval
		WHERE lane = $1 AND environment = $2 AND withdrawn_at IS NULL ORDER BY id`,
		lane, environment,
	)
	if err != nil {
		return nil, fmt.Errorf("read the approvals: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (gate.Approval, error) {
		var a gate.Approval
		err := row.Scan(&a.ID, &a.Release, &a.Digest, &a.Seq, &a.Steps, &a.Note, &a.By, &a.At)
		return a, err
	})
}

// WithdrawApprovals takes back somebody's approvals of a release on an
// environment, and says how many those were.
func (r *Records) WithdrawApprovals(
	ctx context.Context, lane, environment string, digest step.Checksum, by string,
) (int64, error) {
	tag, err := r.pool.Exec(ctx, `UPDATE records.approval SET withdrawn_at = now()
		WHERE lane = $1 AND environment = $2 AND digest = $3 AND given_by = $4
			AND withdrawn_at IS NULL`, lane, environment, digest, by)
	if err != nil {
		return 0, fmt.Errorf("take the approvals back: %w", err)
	}
	return tag.RowsAffected(), nil
}

// AddWaiver keeps a waiver on an environment.
func (r *Records) AddWaiver(ctx context.Context, lane, environment string, w gate.Waiver) (gate.Waiver, error) {
	err := r.pool.QueryRow(ctx, `INSERT INTO records.waiver (lane, environment, digest, "check", subject, reason,
		given_by, given_at, until_at)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
			RETURNING id`, lane, environment, w.Digest, w.Check, w.Subject, w.Reason, w.By, w.At, w.Until).
		Scan(&w.ID)
	if err != nil {
		return w, fmt.Errorf("keep the waiver: %w", err)
	}
	return w, nil
}

// Waivers returns the waivers on an environment that are good at a time and that
// no deployment has used, but for one deployment: 0 for none.
func (r *Records) Waivers(
	ctx context.Context, lane, environment string, at time.Time, deployment int64,
) ([]gate.Waiver, error) {
	rows, err := r.pool.Query(
		ctx,
		`SELECT id, "check", digest, subject, reason, given_by, given_at, until_at FROM records.waiver
		WHERE lane = $1 AND environment = $2 AND until_at > $3 AND (deployment IS NULL OR deployment = $4) ORDER BY id`,
		lane, environment, at, deployment,
	)
	if err != nil {
		return nil, fmt.Errorf("read the waivers: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (gate.Waiver, error) {
		var w gate.Waiver
		err := row.Scan(&w.ID, &w.Check, &w.Digest, &w.Subject, &w.Reason, &w.By, &w.At, &w.Until)
		return w, err
	})
}

// AskingSince returns what was changed of an environment's gate since its last
// deployment forward that was done.
func (r *Records) AskingSince(ctx context.Context, lane, environment string) ([]gate.Asking, error) {
	rows, err := r.pool.Query(ctx, `SELECT change, changed_by, changed_at FROM records.asking
		WHERE lane = $1 AND environment = $3 AND changed_at > coalesce((SELECT max(started_at) FROM records.deployment
			WHERE lane = $1 AND environment = $2 AND outcome = 'done' AND direction = 'forward'), '-infinity')
				ORDER BY id`, lane, environment, whole(environment))
	if err != nil {
		return nil, fmt.Errorf("read what was changed of the gate: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[gate.Asking])
}

// Authors returns who submitted the versions of a release's steps; those of the
// catalogue where the digest is empty.
func (r *Records) Authors(ctx context.Context, lane string, digest step.Checksum) (map[step.Number][]string, error) {
	rows, err := r.pool.Query(
		ctx,
		`SELECT s.number, u.by FROM records.step s JOIN records.submission u ON u.id = s.submission
		WHERE s.lane = $1 AND CASE WHEN $2 = '' THEN s.newest ELSE s.id IN (SELECT unnest(steps) FROM records.release
			WHERE lane = $1 AND digest = $2) END`,
		lane, digest,
	)
	if err != nil {
		return nil, fmt.Errorf("read the steps' authors: %w", err)
	}
	authors := map[step.Number][]string{}
	var number step.Number
	var by string
	_, err = pgx.ForEachRow(rows, []any{&number, &by}, func() error {
		authors[number] = append(authors[number], by)
		return nil
	})
	return authors, err
}
