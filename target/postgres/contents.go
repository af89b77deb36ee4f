package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/schema"
)

// Contents implements engine.RowReader. It reads each table once. The sums are of the
// server's own hash of the values as text, in the order of the columns' names.
func (s *Scratch) Contents(ctx context.Context, seen schema.Schema) (engine.Contents, error) {
	if err := s.exec(ctx, s.beginAs()); err != nil {
		return nil, err
	}
	defer func() { _ = s.exec(context.WithoutCancel(ctx), "ROLLBACK") }() // nothing was changed
	columns := schema.Columns(seen)
	all := engine.Contents{}
	for _, o := range seen.Objects {
		if !holdsRows(o) {
			continue
		}
		there, err := s.contentsOf(ctx, o.Name, columns[o.Name])
		if err != nil {
			return nil, fmt.Errorf("read the rows of %s: %w", o.Name, err)
		}
		all[o.Name] = there
	}
	return all, nil
}

func (s *Scratch) contentsOf(ctx context.Context, table string, columns []schema.Object) (engine.TableContents, error) {
	const none = `E'\x01'` // what NULL counts as; no value is likely to be this
	sum := func(value string) string {
		return "coalesce(pg_catalog.sum(pg_catalog.hashtextextended(" + value + ", 0)), 0)::text"
	}
	there := engine.TableContents{Columns: map[string]string{}}
	var values, sums []string
	var locals []string
	byName := func(a, b schema.Object) int { return strings.Compare(a.Name, b.Name) }
	for _, column := range slices.SortedFunc(slices.Values(columns), byName) {
		value := "coalesce(" + column.Local() + "::text, " + none + ")"
		values, sums, locals = append(values, value), append(sums, sum(value)), append(locals, column.Local())
	}
	row := "''"
	if len(values) > 0 {
		row = "pg_catalog.array_to_string(ARRAY[" + strings.Join(values, ", ") + "], E'\\x02')"
	}
	asked := append([]string{"pg_catalog.count(*)::text", sum(row)}, sums...)
	query := "SELECT " + strings.Join(asked, ", ") + " FROM ONLY " + table
	reader := s.conn.PgConn().ExecParams(ctx, query, nil, nil, nil, nil)
	for reader.NextRow() {
		got := reader.Values()
		if _, err := fmt.Sscan(string(got[0]), &there.Rows); err != nil {
			return there, err
		}
		there.Sum = string(got[1])
		for i, local := range locals {
			there.Columns[local] = string(got[2+i])
		}
	}
	_, err := reader.Close()
	return there, s.wrap(err)
}

// TempBytes implements engine.Spiller. Nobody else has sessions in the database; the
// steps' one is made to report what it counted.
func (s *Scratch) TempBytes(ctx context.Context) (bytes int64, err error) {
	if s.steps != nil && !s.InTransaction() && s.version >= flushes {
		if err := s.step(ctx, "SELECT pg_catalog.pg_stat_force_next_flush()"); err != nil {
			return 0, err
		}
	}
	err = s.conn.QueryRow(ctx, "SELECT temp_bytes FROM pg_catalog.pg_stat_database WHERE datname = "+
		"pg_catalog.current_database()").Scan(&bytes)
	return bytes, s.wrap(err)
}
