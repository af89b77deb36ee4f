package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/core/lane"
	"vorrang/core/ledger"
)

// DeclareLane keeps a lane's declaration, and what it changes of what its
// environments ask. changed is false where it was kept already.
func (r *Records) DeclareLane(ctx context.Context, l lane.Lane, actor string) (changed bool, err error) {
	text, err := json.Marshal(l)
	if err != nil {
		return false, err
	}
	err = pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		var before lane.Lane
		err := tx.QueryRow(ctx, `SELECT declaration FROM records.lane WHERE name = $1 FOR NO KEY UPDATE`, l.Name).
			Scan(&before)
		isNew := errors.Is(err, pgx.ErrNoRows)
		if err != nil && !isNew {
			return err
		}
		tag, err := tx.Exec(ctx, `INSERT INTO records.lane (name, declaration, applied_by) VALUES ($1, $2, $3)
			ON CONFLICT (name) DO UPDATE
			SET declaration = excluded.declaration, applied_at = now(), applied_by = excluded.applied_by
			WHERE lane.declaration <> excluded.declaration`, l.Name, text, actor)
		if changed = tag.RowsAffected() > 0; err != nil || isNew {
			return err
		}
		for _, change := range lane.Changes(before, l) {
			_, err := tx.Exec(
				ctx,
				`INSERT INTO records.asking (lane, environment, change, changed_by) VALUES ($1, $2, $3, $4)`,
				l.Name, change.Environment, change.What, actor,
			)
			if err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return false, fmt.Errorf("keep the lane %s: %w", l.Name, err)
	}
	return changed, nil
}

// Lanes returns all lanes in order of their names.
func (r *Records) Lanes(ctx context.Context) ([]lane.Lane, error) {
	rows, err := r.pool.Query(ctx, `SELECT declaration FROM records.lane ORDER BY name`)
	if err != nil {
		return nil, fmt.Errorf("read the lanes: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowTo[lane.Lane])
}

// Lane returns one lane, or ErrNotFound.
func (r *Records) Lane(ctx context.Context, name string) (lane.Lane, error) {
	var l lane.Lane
	err := r.pool.QueryRow(ctx, `SELECT declaration FROM records.lane WHERE name = $1`, name).Scan(&l)
	return l, noRows(err)
}

// SeenHead returns the newest ledger entry that was seen in a target; its zero
// value if none was.
func (r *Records) SeenHead(ctx context.Context, laneName, environment string) (ledger.Head, error) {
	var h ledger.Head
	err := r.pool.QueryRow(ctx, `SELECT seq, hash FROM records.head WHERE lane = $1 AND environment = $2`, laneName,
		environment).
		Scan(&h.Seq, &h.Hash)
	if noRows(err) == ErrNotFound {
		return ledger.Head{}, nil
	}
	return h, err
}

// ReplaceHead remembers the newest ledger entry of a target whatever was seen
// there before.
func (r *Records) ReplaceHead(ctx context.Context, laneName, environment string, h ledger.Head) error {
	_, err := r.pool.Exec(
		ctx,
		`INSERT INTO records.head (lane, environment, seq, hash, seen_at) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (lane, environment) DO UPDATE SET seq = excluded.seq, hash = excluded.hash, seen_at = excluded.seen_at`,
		laneName, environment, h.Seq, h.Hash, time.Now(),
	)
	if err != nil {
		return fmt.Errorf("remember the ledger's head: %w", err)
	}
	return nil
}

// MoveHead remembers the newest ledger entry that a look found, where the one that it
// was compared with is still the one that is kept: meanwhile somebody may have adopted
// another ledger, and a look may be kept a little later.
func (r *Records) MoveHead(ctx context.Context, laneName, environment string, from, to ledger.Head) error {
	sql := `UPDATE records.head SET seq = $3, hash = $4, seen_at = $5 WHERE lane = $1 AND environment = $2
		AND (seq, hash) = ($6, $7)`
	args := []any{laneName, environment, to.Seq, to.Hash, time.Now(), from.Seq, from.Hash}
	if from == (ledger.Head{}) {
		sql, args = `INSERT INTO records.head (lane, environment, seq, hash, seen_at) VALUES ($1, $2, $3, $4, $5)
			ON CONFLICT DO NOTHING`, args[:5]
	}
	if _, err := r.pool.Exec(ctx, sql, args...); err != nil {
		return fmt.Errorf("remember the ledger's head: %w", err)
	}
	return nil
}

// SaveHead remembers the newest ledger entry of a target, for one who holds the target's
// lock. A ledger never gets shorter, so an older head than the one that is kept changes
// nothing.
func (r *Records) SaveHead(ctx context.Context, laneName, environment string, h ledger.Head) error {
	_, err := r.pool.Exec(
		ctx,
		`INSERT INTO records.head (lane, environment, seq, hash, seen_at) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (lane, environment) DO UPDATE SET seq = excluded.seq, hash = excluded.hash, seen_at = excluded.seen_at
		WHERE head.seq < excluded.seq`,
		laneName, environment, h.Seq, h.Hash, time.Now(),
	)
	if err != nil {
		return fmt.Errorf("remember the ledger's head: %w", err)
	}
	return nil
}
