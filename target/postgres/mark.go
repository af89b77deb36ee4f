package postgres

import (
	"context"
	_ "embed"
	"fmt"
)

//go:embed mark.sql
var markSQL string

// Mark implements engine.Marker. A user who may not read one of the catalogs that stand in no snapshot gets an
// error, and is served by full ones.
func (s *Session) Mark(ctx context.Context) (mark string, err error) {
	if err := s.conn.QueryRow(ctx, markSQL).Scan(&mark); err != nil {
		return "", fmt.Errorf("read what was written in the catalogs: %w", s.wrap(err))
	}
	return mark, nil
}
