package records

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/core/gate"
	"vorrang/core/lane"
)

const freezeColumns = `id, environment, from_at, until_at, reason, set_by`

func scanFreeze(row pgx.CollectableRow) (gate.Freeze, error) {
	var f gate.Freeze
	err := row.Scan(&f.ID, &f.Environment, &f.From, &f.Until, &f.Reason, &f.By)
	return f, err
}

// AddFreeze keeps a freeze of an environment.
func (r *Records) AddFreeze(ctx context.Context, lane, environment string, f gate.Freeze) (gate.Freeze, error) {
	rows, err := r.pool.Query(ctx, `INSERT INTO records.freeze (lane, environment, from_at, until_at, reason, set_by)
		VALUES ($1, $2, $3, $4, $5, $6) RETURNING `+freezeColumns, lane, environment, f.From, f.Until, f.Reason, f.By)
	if err == nil {
		f, err = pgx.CollectExactlyOneRow(rows, scanFreeze)
	}
	if err != nil {
		return f, fmt.Errorf("keep the freeze: %w", err)
	}
	return f, nil
}

// whole is the environment to which a target of a fleet belongs; else the environment itself.
func whole(environment string) string { return lane.EnvironmentOf(environment) }

// Freezes returns the freezes of an environment that are in force at a time or
// will be, the first to begin first.
func (r *Records) Freezes(ctx context.Context, lane, environment string, at time.Time) ([]gate.Freeze, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+freezeColumns+` FROM records.freeze
		WHERE lane = $1 AND environment IN ($2, $4) AND until_at > $3 AND thawed_at IS NULL
			ORDER BY from_at, id`, lane, environment, at, whole(environment))
	if err != nil {
		return nil, fmt.Errorf("read the freezes: %w", err)
	}
	return pgx.CollectRows(rows, scanFreeze)
}

// FrozenTargets returns the targets of a fleet that are frozen by themselves, or will be, as ENVIRONMENT.TARGET.
func (r *Records) FrozenTargets(ctx context.Context, lane, environment string, at time.Time) ([]string, error) {
	rows, err := r.pool.Query(ctx, `SELECT DISTINCT environment FROM records.freeze
		WHERE lane = $1 AND starts_with(environment, $2 || '.') AND until_at > $3 AND thawed_at IS NULL ORDER BY environment`,
		lane, environment, at)
	if err != nil {
		return nil, fmt.Errorf("read the freezes: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Thaw ends all freezes of an environment that are in force at a time or will
// be, and says how many those were.
func (r *Records) Thaw(ctx context.Context, lane, environment, actor string, at time.Time) (int64, error) {
	tag, err := r.pool.Exec(ctx, `UPDATE records.freeze SET thawed_by = $3, thawed_at = $4
		WHERE lane = $1 AND environment = $2 AND until_at > $4 AND thawed_at IS NULL`, lane, environment, actor, at)
	if err != nil {
		return 0, fmt.Errorf("end the freezes: %w", err)
	}
	return tag.RowsAffected(), nil
}

// AddBackup keeps the report of a backup.
func (r *Records) AddBackup(ctx context.Context, lane, environment string, b gate.Backup) error {
	_, err := r.pool.Exec(
		ctx,
		`INSERT INTO records.backup (lane, environment, label, taken_at, reported_by) VALUES ($1, $2, $3, $4, $5)`,
		lane, environment, b.Label, b.TakenAt, b.By,
	)
	if err != nil {
		return fmt.Errorf("keep the backup's report: %w", err)
	}
	return nil
}

// Backup returns the newest backup that was reported of an environment, or nil.
func (r *Records) Backup(ctx context.Context, lane, environment string) (*gate.Backup, error) {
	var b gate.Backup
	err := r.pool.QueryRow(ctx, `SELECT label, taken_at, reported_by FROM records.backup
		WHERE lane = $1 AND environment IN ($2, $3) ORDER BY taken_at DESC
			LIMIT 1`, lane, environment, whole(environment)).Scan(&b.Label, &b.TakenAt, &b.By)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the backups: %w", err)
	}
	return &b, nil
}
