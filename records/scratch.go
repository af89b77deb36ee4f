package records

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
)

// Scratch is a scratch database that is in use, or was left behind.
type Scratch struct {
	Engine    string
	Reference string // to its server
	Name      string
}

// AddScratch remembers a scratch database while it is in use.
func (r *Records) AddScratch(ctx context.Context, s Scratch) error {
	_, err := r.pool.Exec(
		ctx,
		`INSERT INTO records.scratch (engine, reference, name) VALUES ($1, $2, $3)`,
		s.Engine, s.Reference, s.Name,
	)
	if err != nil {
		return fmt.Errorf("keep the name of a scratch database: %w", err)
	}
	return nil
}

// ForgetScratch says that a scratch database is gone. Repeated, it changes nothing more.
func (r *Records) ForgetScratch(ctx context.Context, s Scratch) error {
	_, err := r.pool.Exec(ctx, `DELETE FROM records.scratch WHERE reference = $1 AND name = $2`, s.Reference, s.Name)
	return err
}

// Scratches are those that were not said to be gone.
func (r *Records) Scratches(ctx context.Context) ([]Scratch, error) {
	rows, err := r.pool.Query(ctx, `SELECT engine, reference, name FROM records.scratch ORDER BY made_at`)
	if err != nil {
		return nil, fmt.Errorf("read the scratch databases: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Scratch])
}
