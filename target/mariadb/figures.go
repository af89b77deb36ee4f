package mariadb

import (
	"context"
	"fmt"
	"strconv"

	"vorrang/core/review"
)

// Figures implements engine.Counter: how large the tables are, as the server estimates.
// It counts no scans unless it is told to, so that none are given.
func (s *Session) Figures(ctx context.Context) (review.Figures, error) {
	f := review.Figures{Tables: map[string]review.Size{}}
	const query = `SELECT TABLE_NAME, COALESCE(TABLE_ROWS, 0), COALESCE(DATA_LENGTH + INDEX_LENGTH, 0)
		FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'BASE TABLE'`
	err := s.own.each(ctx, query, nil, func(row []string) error {
		var size review.Size
		var err error
		if size.Rows, err = strconv.ParseInt(row[1], 10, 64); err != nil {
			return err
		}
		size.Bytes, err = strconv.ParseInt(row[2], 10, 64)
		f.Tables[row[0]] = size
		return err
	})
	if err != nil {
		return f, fmt.Errorf("read the sizes: %w", err)
	}
	return f, nil
}
