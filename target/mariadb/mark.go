package mariadb

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"
)

// Mark implements engine.Marker: when each table's and routine's definition was written, which spares asking for the
// text of each, and the texts of the rest. The server tells that moment to the second. Until one is over, another change could
// bear the same: so long each mark is another.
func (s *Session) Mark(ctx context.Context) (string, error) {
	sum := sha256.New()
	unsettled := false
	written := func(row []string) error {
		last := len(row) - 1
		fmt.Fprintf(sum, "%q\n", row[:last])
		unsettled = unsettled || row[last] != "1"
		return nil
	}
	r := catalog{Session: s, ctx: ctx}
	var sequences []string
	for _, read := range []func() error{
		func() error {
			return s.own.each(ctx, `SELECT TABLE_NAME, TABLE_TYPE, CREATE_TIME, ENGINE, TABLE_COLLATION, CREATE_OPTIONS, TABLE_COMMENT,
					TABLE_TYPE = 'SEQUENCE' OR CREATE_TIME < SYSDATE() - INTERVAL 1 SECOND
				FROM information_schema.TABLES
				WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE <> 'VIEW' AND TABLE_NAME <> ? ORDER BY TABLE_NAME`,
				[]any{ledgerTable}, func(row []string) error {
					if row[1] == "SEQUENCE" {
						sequences = append(sequences, row[0])
					}
					return written(row)
				})
		},
		func() error {
			return s.own.each(ctx, `SELECT ROUTINE_NAME, ROUTINE_TYPE, CREATED, LAST_ALTERED, DEFINER, ROUTINE_DEFINITION,
					LAST_ALTERED < SYSDATE() - INTERVAL 1 SECOND
				FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE() ORDER BY ROUTINE_TYPE, ROUTINE_NAME`, nil, written)
		},
		func() error { return r.sequences(sequences) }, r.views, r.triggers, r.events,
	} {
		if err := read(); err != nil {
			return "", fmt.Errorf("read when the schema was written: %w", err)
		}
	}
	for _, o := range r.objects {
		fmt.Fprintf(sum, "%q\n", []any{o.Kind, o.Name, o.Of, fmt.Sprint(o.Props)})
	}
	mark := hex.EncodeToString(sum.Sum(nil))
	if unsettled {
		mark += time.Now().Format(time.RFC3339Nano)
	}
	return mark, nil
}
