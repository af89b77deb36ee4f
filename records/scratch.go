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
		`INSERT INTO records.scratch (engine, reference, name, service) VALUES ($1, $2, $3, $4)`,
		s.Engine, s.Reference, s.Name, r.life.id,
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

// LeftScratches are those of services that do not live any more. They are this one's from now
// on, which is to drop them.
func (r *Records) LeftScratches(ctx context.Context) ([]Scratch, error) {
	rows, err := r.pool.Query(ctx, `UPDATE records.scratch SET service = $1 WHERE records.lives($1)
		AND (service IS NULL OR service <> $1 AND NOT records.lives(service)) RETURNING engine, reference, name`, r.life.id)
	if err != nil {
		return nil, fmt.Errorf("read the scratch databases: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Scratch])
}
