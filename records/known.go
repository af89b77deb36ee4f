package records

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"vorrang/core/step"
)

// KnownTexts says which digests of exact bytes are of files that were submitted to a lane, at
// any time.
func (r *Records) KnownTexts(ctx context.Context, lane string, digests []step.Checksum) ([]step.Checksum, error) {
	rows, err := r.pool.Query(ctx, `SELECT DISTINCT d FROM records.step, unnest(digests) AS d
		WHERE lane = $1 AND d = ANY ($2)`, lane, digests)
	if err != nil {
		return nil, fmt.Errorf("read which texts are known: %w", err)
	}
	known, err := pgx.CollectRows(rows, pgx.RowTo[step.Checksum])
	if err != nil {
		return nil, fmt.Errorf("read which texts are known: %w", err)
	}
	return known, nil
}

// Known returns the exact bytes of a file that was submitted to the lane before, by their
// digest; nil for what was not.
func (s *Submission) Known(ctx context.Context, digest step.Checksum) ([]byte, error) {
	if s.known == nil {
		rows, err := s.tx.Query(ctx, `SELECT DISTINCT d FROM records.step, unnest(digests) AS d WHERE lane = $1`, s.lane)
		if err != nil {
			return nil, fmt.Errorf("read which texts are known: %w", err)
		}
		known, err := pgx.CollectRows(rows, pgx.RowTo[step.Checksum])
		if err != nil {
			return nil, fmt.Errorf("read which texts are known: %w", err)
		}
		s.known = map[step.Checksum]bool{}
		for _, one := range known {
			s.known[one] = true
		}
	}
	if !s.known[digest] {
		return nil, nil
	}
	return exact(ctx, s.tx, digest)
}
