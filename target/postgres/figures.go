package postgres

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"vorrang/core/engine"
	"vorrang/core/review"
)

// figures gives a row for each table, index, function and sequence of the application,
// as the schema names them: what it is, its name, rows or uses, bytes, scans, and how
// much of a sequence is used. Source: the manual's chapter on cumulative statistics.
const figures = `SELECT CASE c.relkind WHEN 'i' THEN 'index' WHEN 'I' THEN 'index' ELSE 'table' END, format('%I.%I',
	n.nspname, c.relname),
		greatest(c.reltuples, coalesce(t.n_live_tup, 0))::bigint, pg_total_relation_size(c.oid),
		coalesce(i.idx_scan, t.seq_scan + coalesce(t.idx_scan, 0), 0), 0::float8,
		coalesce(t.n_tup_ins + t.n_tup_upd + t.n_tup_del, 0)
	FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
	LEFT JOIN pg_stat_all_tables t ON t.relid = c.oid LEFT JOIN pg_stat_all_indexes i ON i.indexrelid = c.oid
	WHERE c.relkind IN ('r', 'p', 'm', 'i', 'I') AND n.nspname NOT LIKE 'pg\_%'
	AND n.nspname NOT IN ('information_schema', 'vorrang')
	UNION ALL
	SELECT 'function', format('%I.%I', schemaname, funcname), sum(calls)::bigint, 0, 0, 0, 0 FROM pg_stat_user_functions
	GROUP BY 2
	UNION ALL
	SELECT 'sequence', format('%I.%I', schemaname, sequencename), 0, 0, 0,
		coalesce((last_value - min_value)::float8 / nullif(max_value::numeric - min_value, 0)::float8, 0), 0
	FROM pg_sequences WHERE increment_by > 0 AND NOT cycle AND schemaname <> 'vorrang'`

// CountRows implements engine.Asker. Names in the query have their schema: the search path
// is empty.
func (s *Session) CountRows(ctx context.Context, query string, most int64) (rows int64, err error) {
	batch := &pgx.Batch{}
	batch.Queue("BEGIN READ ONLY")
	batch.Queue(fmt.Sprintf("SET LOCAL statement_timeout = %d", engine.AskPatience.Milliseconds()))
	batch.Queue("SET LOCAL lock_timeout = 500")
	batch.Queue(fmt.Sprintf("SELECT pg_catalog.count(*) FROM (%s LIMIT %d) AS q", query, most)).
		QueryRow(func(row pgx.Row) error { return row.Scan(&rows) })
	err = s.wrap(s.conn.SendBatch(ctx, batch).Close())
	return rows, errors.Join(err, s.exec(ctx, "ROLLBACK"))
}

// Figures implements engine.Counter.
func (s *Session) Figures(ctx context.Context) (review.Figures, error) {
	f := review.Figures{
		Tables: map[string]review.Size{}, Indexes: map[string]int64{}, Functions: map[string]int64{},
		Sequences: map[string]float64{},
	}
	rows, err := s.conn.Query(ctx, figures)
	if err != nil {
		return f, s.wrap(err)
	}
	var kind, name string
	var size review.Size
	var used float64
	_, err = pgx.ForEachRow(rows, []any{&kind, &name, &size.Rows, &size.Bytes, &size.Reads, &used, &size.Writes}, func() error {
		switch kind {
		case "table":
			f.Tables[name] = size
		case "index":
			f.Indexes[name] = size.Reads
		case "function":
			f.Functions[name] = size.Rows
		case "sequence":
			f.Sequences[name] = used
		}
		return nil
	})
	if err != nil {
		return f, s.wrap(err)
	}
	err = s.conn.QueryRow(ctx, `SELECT coalesce(to_char(stats_reset AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI "UTC"'), ''),
		clock_timestamp() FROM pg_stat_database WHERE datname = current_database()`).Scan(&f.Since, &f.At)
	if err != nil {
		return f, s.wrap(err)
	}
	return f, nil
}
