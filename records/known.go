package records

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"vorrang/core/step"
)

// KnownTexts are the digests of the exact bytes of all files that were submitted to a lane, at
// any time.
func (r *Records) KnownTexts(ctx context.Context, lane string) (map[step.Checksum]bool, error) {
	return knownTexts(ctx, r.pool, lane)
}

func knownTexts(ctx context.Context, from querier, lane string) (map[step.Checksum]bool, error) {
	rows, err := from.Query(ctx, `SELECT DISTINCT unnest(digests) FROM records.step WHERE lane = $1`, lane)
	known := map[step.Checksum]bool{}
	if err == nil {
		var digest step.Checksum
		_, err = pgx.ForEachRow(rows, []any{&digest}, func() error {
			known[digest] = true
			return nil
		})
	}
	if err != nil {
		return nil, fmt.Errorf("read which texts are known: %w", err)
	}
	return known, nil
}

// Known returns the exact bytes of a file that was submitted to the lane before, by their
// digest; nil for what was not.
func (s *Submission) Known(ctx context.Context, digest step.Checksum) (text []byte, err error) {
	if s.known == nil {
		if s.known, err = knownTexts(ctx, s.tx, s.lane); err != nil {
			return nil, err
		}
	}
	if !s.known[digest] {
		return nil, nil
	}
	return exact(ctx, s.tx, digest)
}
