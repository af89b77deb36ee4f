package sqlite

import (
	"context"
	"database/sql/driver"
	"fmt"
)

// referring is a column that refers to a table, and how many rows of its table have a value in it.
type referring struct {
	table, column, onDelete string
	values                  int64
}

// dropping runs what drops a table, and says which rows of other tables went or changed with it:
// where foreign keys are held, SQLite deletes the table's rows first, and those that refer to them
// follow by their ON DELETE. That is so in a rebuild by DROP and RENAME, too.
//
// Source: https://www.sqlite.org/lang_droptable.html
func (s *Session) dropping(ctx context.Context, table string, drop func() error) error {
	if s.notice == nil {
		return drop()
	}
	before, err := s.steps.referringTo(ctx, table)
	if err != nil {
		return err
	}
	if err := drop(); err != nil {
		return err
	}
	for _, r := range before {
		now, err := s.steps.valuesOf(ctx, r)
		if err != nil {
			return err
		}
		if lost := r.values - now; lost > 0 {
			s.notice("WARNING", fmt.Sprintf(
				"dropping %s took %d values of %s.%s along, which referred to it (ON DELETE %s); to keep them, rebuild the table "+
					"without foreign_keys=on in the target's URL, or rebuild %[3]s with it",
				table, lost, r.table, r.column, r.onDelete,
			))
		}
	}
	return nil
}

// referringTo are the columns whose values follow those of a table, where foreign keys are held.
func (c *conn) referringTo(ctx context.Context, table string) (list []referring, err error) {
	err = c.ours(func() error {
		return c.query(ctx, `SELECT t.name, f."from", f.on_delete
			FROM pragma_table_list t, pragma_foreign_key_list(t.name) f, pragma_foreign_keys k
			WHERE k.foreign_keys = 1 AND t.schema = 'main' AND t.type = 'table' AND f.seq = 0
				AND f."table" = ? COLLATE NOCASE AND t.name <> f."table" COLLATE NOCASE
				AND f.on_delete IN ('CASCADE', 'SET NULL', 'SET DEFAULT')`,
			[]any{table}, func(row []driver.Value) error {
				list = append(list, referring{table: str(row[0]), column: str(row[1]), onDelete: str(row[2])})
				return nil
			})
	})
	for i := range list {
		if err == nil {
			list[i].values, err = c.valuesOf(ctx, list[i])
		}
	}
	return list, err
}

func (c *conn) valuesOf(ctx context.Context, r referring) (values int64, err error) {
	err = c.ours(func() error {
		query := fmt.Sprintf("SELECT count(%s) FROM main.%s", identifier(r.column), identifier(r.table))
		return c.query(ctx, query, nil, func(row []driver.Value) error {
			values, _ = row[0].(int64)
			return nil
		})
	})
	return values, err
}
