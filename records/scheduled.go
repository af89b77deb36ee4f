package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Scheduled is a promotion that waits for its time.
type Scheduled struct {
	ID                int64
	Lane, Environment string
	Due               time.Time
	Request           ScheduledRequest
	Actor             string
	Who               Identity
	MadeAt            time.Time
	State             string // waiting, started, done, held, failed, missed or dropped
	Message           string
	Deployment        *int64
	EndedAt           *time.Time
	Fleet             *int64 // the deployment to a fleet that it began
}

// ScheduledRequest is what is to be promoted then, and how.
type ScheduledRequest struct {
	Through   string `json:"through,omitempty"`    // the last step; empty for all that wait
	OnFailure string `json:"on_failure,omitempty"` // a plan.Policy; empty for the lane's
	Release   string `json:"release,omitempty"`    // empty for loose steps
	Whole     bool   `json:"whole,omitempty"`      // all steps in one transaction
	Plan      string `json:"plan,omitempty"`       // the digest of the plan that was shown, or its beginning
}

// Identity is how to find out, at the time, what the actor may then: a person by
// name, or the token that was used.
type Identity struct {
	Person string `json:"person,omitempty"`
	Token  int64  `json:"token,omitempty"`
}

const scheduledColumns = `id, lane, environment, due_at, wish, actor, who, made_at, state, says, deployment, ended_at, fleet`

// Schedule keeps a promotion for later.
func (r *Records) Schedule(ctx context.Context, s Scheduled) (Scheduled, error) {
	rows, _ := r.pool.Query(
		ctx,
		`INSERT INTO records.scheduled (lane, environment, due_at, wish, actor, who) VALUES ($1, $2, $3, $4, $5, $6)
		RETURNING `+scheduledColumns,
		s.Lane, s.Environment, s.Due, s.Request, s.Actor, s.Who,
	)
	kept, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Scheduled])
	if err != nil {
		return s, fmt.Errorf("keep the scheduled promotion: %w", err)
	}
	return kept, nil
}

// Waiting returns the promotions of a lane that wait for their time, the earliest first; of
// one environment, where one is named. The search is that of ScheduledBefore.
func (r *Records) Waiting(ctx context.Context, lane, environment, search string) ([]Scheduled, error) {
	return r.scheduled(
		ctx,
		`WHERE state = 'waiting' AND lane = $1 AND ($2 = '' OR environment = $2)
			AND `+containing(scheduledText, `$3`)+` ORDER BY due_at, id`,
		lane, environment, search,
	)
}

// scheduledText is what a scheduled promotion is searched in.
const scheduledText = `concat_ws(' ', wish ->> 'release', wish ->> 'through', actor, state, says)`

// ScheduledBefore returns scheduled promotions of a lane that wait no more, the newest first;
// of one environment, where one is named. The search is for a release, a step, who scheduled
// it, what became of it, or why.
func (r *Records) ScheduledBefore(ctx context.Context, lane, environment string, q ListQuery) ([]Scheduled, error) {
	return r.scheduled(
		ctx,
		`WHERE state <> 'waiting' AND lane = $1 AND ($2 = '' OR environment = $2) AND ($3 = 0 OR id < $3)
			AND `+containing(scheduledText, `$4`)+`
		ORDER BY id DESC LIMIT $5`,
		lane, environment, q.Before, q.Search, q.most(),
	)
}

// ours is the condition for what no other service that lives has claimed; $1 is this one.
const ours = `(service IS NULL OR service = $1 OR NOT records.lives(service))`

// ClaimDue claims the promotions whose time has come, earliest first. What this service claimed
// before, and did not begin, is among them.
func (r *Records) ClaimDue(ctx context.Context) ([]Scheduled, error) {
	rows, err := r.pool.Query(ctx, `UPDATE records.scheduled SET service = $1 WHERE id IN (
			SELECT id FROM records.scheduled WHERE state = 'waiting' AND due_at <= now() AND `+ours+`
			ORDER BY due_at, id FOR UPDATE SKIP LOCKED) RETURNING `+scheduledColumns, r.life.id)
	if err != nil {
		return nil, fmt.Errorf("claim the scheduled promotions that are due: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Scheduled])
}

// NextDue is when the next scheduled promotion is due that no other service has claimed;
// false if none waits.
func (r *Records) NextDue(ctx context.Context) (at time.Time, waits bool, err error) {
	return r.earliest(ctx, `SELECT min(due_at) FROM records.scheduled WHERE state = 'waiting' AND `+ours, r.life.id)
}

// earliest reads a time that may be absent.
func (r *Records) earliest(ctx context.Context, query string, args ...any) (at time.Time, is bool, err error) {
	var next *time.Time
	if err = r.pool.QueryRow(ctx, query, args...).Scan(&next); err != nil || next == nil {
		return time.Time{}, false, err
	}
	return *next, true, nil
}

func (r *Records) scheduled(ctx context.Context, where string, args ...any) ([]Scheduled, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+scheduledColumns+` FROM records.scheduled `+where, args...)
	if err != nil {
		return nil, fmt.Errorf("read the scheduled promotions: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Scheduled])
}

// EndScheduled keeps what became of a scheduled promotion that this service claimed; false if
// it did not wait any more.
func (r *Records) EndScheduled(ctx context.Context, id int64, state, message string, deployment int64) (bool, error) {
	tag, err := r.pool.Exec(
		ctx,
		`UPDATE records.scheduled SET state = $2, says = $3, deployment = nullif($4, 0), ended_at = now()
		WHERE id = $1 AND state = 'waiting' AND service = $5`,
		id, state, message, deployment, r.life.id,
	)
	return tag.RowsAffected() > 0, err
}

// DropScheduled takes a scheduled promotion of an environment back; false if
// there is none that waits.
func (r *Records) DropScheduled(ctx context.Context, lane, environment string, id int64, message string) (bool, error) {
	tag, err := r.pool.Exec(ctx, `UPDATE records.scheduled SET state = 'dropped', says = $4, ended_at = now()
		WHERE id = $1 AND lane = $2 AND environment = $3 AND state = 'waiting'`, id, lane, environment, message)
	return tag.RowsAffected() > 0, err
}
