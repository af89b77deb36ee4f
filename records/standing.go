package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Standing is what the records know of an environment, without a look at its target.
type Standing struct {
	Lane, Environment string
	// of the last deployment that has ended; nil without one
	Outcome  *string
	EndedAt  *time.Time
	Took     *float64 // seconds
	Drifted  *int     // objects, as the newest look for drift found; nil if nobody looked
	LookedAt *time.Time
	Backup   *time.Time // when the newest backup was taken that was reported
}

const standing = `SELECT p.lane, p.environment, d.outcome, d.ended_at, extract(epoch
	FROM d.ended_at - d.started_at)::float8,
	r.objects, r.looked_at, b.taken_at
FROM unnest($1::text[], $2::text[]) p (lane, environment)
LEFT JOIN LATERAL (SELECT outcome, ended_at, started_at FROM records.deployment
	WHERE lane = p.lane AND environment = p.environment AND ended_at IS NOT NULL ORDER BY id DESC LIMIT 1) d ON true
LEFT JOIN records.drift r ON r.lane = p.lane AND r.environment = p.environment
LEFT JOIN LATERAL (SELECT max(taken_at) AS taken_at FROM records.backup
	WHERE lane = p.lane AND environment = p.environment) b ON true
ORDER BY 1, 2`

// Standings are those of environments, each with its lane, in one question.
func (r *Records) Standings(ctx context.Context, lanes, environments []string) ([]Standing, error) {
	rows, err := r.pool.Query(ctx, standing, lanes, environments)
	if err != nil {
		return nil, fmt.Errorf("read how the environments stand: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Standing])
}
