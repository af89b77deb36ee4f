package sqlite

import (
	"context"
	"crypto/sha256"
	"database/sql/driver"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/target/sample"
)

// Sample implements engine.Sampler. What virtual tables hold is not copied.
func (Engine) Sample(
	ctx context.Context, from engine.Session, to engine.Scratch, how engine.Sample,
) (copied []engine.Sampled, err error) {
	source, s := from.(*Session).own, to.(*scratch)
	if err := source.exec(ctx, "BEGIN"); err != nil {
		return nil, fmt.Errorf("begin to read rows: %w", err)
	}
	defer func() { err = errors.Join(err, source.rollback()) }()
	tables, err := source.sampleTables(ctx, how)
	if err != nil {
		return nil, fmt.Errorf("look for tables with rows: %w", err)
	}
	inside, err := dial(s.at.path)
	if err != nil {
		return nil, err
	}
	defer inside.Close()
	inside.guard.ours = true
	drop, restore, err := inside.triggers(ctx)
	if err == nil {
		err = inside.exec(ctx, "PRAGMA foreign_keys = OFF; PRAGMA ignore_check_constraints = ON; BEGIN; "+
			strings.Join(drop, "; "))
	}
	if err != nil {
		return nil, fmt.Errorf("make the copy ready for rows: %w", err)
	}
	if copied, err = sample.Copy(ctx, rowsOf{source}, rowsOf{inside}, tables, how); err != nil {
		return nil, err
	}
	if err := goOn(ctx, source, inside); err != nil {
		return nil, fmt.Errorf("copy the numbers that are given next: %w", err)
	}
	if err := inside.exec(ctx, strings.Join(append(restore, "COMMIT"), ";\n")); err != nil {
		return nil, fmt.Errorf("put the copy's triggers back: %w", err)
	}
	return copied, nil
}

// rowsOf implements sample.Database.
type rowsOf struct{ *conn }

func (r rowsOf) Query(ctx context.Context, query string, row func([]any) error) error {
	var all []any
	return r.query(ctx, query, nil, func(values []driver.Value) error {
		all = all[:0]
		for _, value := range values {
			all = append(all, value)
		}
		return row(all)
	})
}

func (r rowsOf) Exec(ctx context.Context, statement string, values []any) error {
	return r.run(ctx, statement, values...)
}

func (rowsOf) Literal(value any) string {
	switch value := value.(type) {
	case int64:
		return strconv.FormatInt(value, 10)
	case float64:
		return strconv.FormatFloat(value, 'e', -1, 64)
	}
	return literal(fmt.Sprint(value))
}

// literal is a text as SQLite reads it, in which no character ends it early.
func literal(text string) string {
	if strings.Contains(text, "\x00") {
		return fmt.Sprintf("CAST(X'%x' AS TEXT)", text)
	}
	return "'" + strings.ReplaceAll(text, "'", "''") + "'"
}

const whichTables = `SELECT t.name, t.wr FROM pragma_table_list t JOIN main.sqlite_schema s USING (name)
WHERE t.schema = 'main' AND t.type = 'table' AND s.type = 'table' AND t.name NOT LIKE 'sqlite\_%' ESCAPE '\'
	AND t.name <> 'vorrang_ledger' COLLATE NOCASE ORDER BY t.name`

// sampleTables reads what there is to copy.
func (c *conn) sampleTables(ctx context.Context, how engine.Sample) (tables []sample.Table, err error) {
	types := schema.ByKey(how.Schema)
	withoutRowID := map[string]bool{}
	var names []string
	err = c.query(ctx, whichTables, nil, func(row []driver.Value) error {
		names = append(names, str(row[0]))
		withoutRowID[str(row[0])] = str(row[1]) == "1"
		return nil
	})
	for _, name := range names {
		if err != nil {
			return nil, err
		}
		t := sample.Table{Name: plainName(name), SQL: identifier(name)}
		if err = c.sampleColumns(ctx, name, &t, func(column string) string {
			full := t.Name + "." + plainName(column)
			if !how.Masked[full] {
				return ""
			}
			return types[schema.KeyOf(schema.Column, full)].Props[schema.DataType]
		}); err != nil {
			return nil, err
		}
		count := "SELECT count(*) FROM " + t.SQL
		named := slices.ContainsFunc(t.Columns, func(column sample.Column) bool {
			return strings.EqualFold(column.SQL, `"rowid"`)
		})
		if !withoutRowID[name] && !named {
			t.Key = "rowid"
			count = "SELECT coalesce(max(rowid), 0) FROM " + t.SQL
		}
		err = c.query(ctx, count, nil, func(row []driver.Value) error {
			t.Rows, _ = row[0].(int64)
			return nil
		})
		tables = append(tables, t)
	}
	if err != nil {
		return nil, err
	}
	for i := range tables {
		if err := c.sampleReferences(ctx, names[i], tables, &tables[i]); err != nil {
			return nil, err
		}
	}
	return tables, nil
}

// sampleColumns reads the columns of one table; a + before one keeps the library from
// reading times into its values.
func (c *conn) sampleColumns(ctx context.Context, name string, t *sample.Table, masked func(string) string) error {
	place := map[string]int{}
	err := c.query(ctx, `SELECT name, "notnull", pk FROM pragma_table_xinfo(?) WHERE hidden = 0`, []any{name},
		func(row []driver.Value) error {
			column := str(row[0])
			place[column] = len(t.Columns)
			t.Columns = append(t.Columns, sample.Column{
				SQL: identifier(column), Read: "+" + identifier(column), Masked: masked(column), Nulls: str(row[1]) == "0",
				Bounded: str(row[2]) != "0", Leads: str(row[2]) == "1",
			})
			return nil
		})
	if err != nil {
		return err
	}
	err = c.query(ctx, `SELECT i.name, i.seqno FROM pragma_index_list(?) l, pragma_index_info(l.name) i`, []any{name},
		func(row []driver.Value) error {
			if at, is := place[str(row[0])]; is { // an expression has no name
				t.Columns[at].Bounded = true
				t.Columns[at].Leads = t.Columns[at].Leads || str(row[1]) == "0"
			}
			return nil
		})
	if err != nil {
		return err
	}
	return c.query(ctx, `SELECT sql FROM main.sqlite_schema WHERE type = 'table' AND name = ?`, []any{name},
		func(row []driver.Value) error {
			w := rules.Walk([]byte(str(row[0])))
			for w.More() {
				if !w.Pass("CHECK") || !w.Peek().Is("(") {
					w.At++
					continue
				}
				for _, token := range w.Group() {
					for column, at := range place {
						if strings.EqualFold(token.Name(), column) {
							t.Columns[at].Bounded = true
						}
					}
				}
			}
			return nil
		})
}

func (c *conn) sampleReferences(ctx context.Context, name string, all []sample.Table, t *sample.Table) error {
	last := ""
	return c.query(
		ctx,
		`SELECT f.id, f."table", f."from", coalesce(f."to", (SELECT p.name FROM pragma_table_info(f."table") p
			WHERE p.pk = f.seq + 1)) FROM pragma_foreign_key_list(?) f ORDER BY f.id, f.seq`,
		[]any{name},
		func(row []driver.Value) error {
			parent := slices.IndexFunc(all, func(o sample.Table) bool {
				return strings.EqualFold(o.SQL, identifier(str(row[1])))
			})
			from := slices.IndexFunc(t.Columns, func(column sample.Column) bool {
				return strings.EqualFold(column.SQL, identifier(str(row[2])))
			})
			if parent < 0 || from < 0 || row[3] == nil {
				return nil
			}
			if id := str(row[0]); id != last || len(t.References) == 0 {
				last = id
				t.References = append(t.References, sample.Reference{Parent: all[parent].Name})
			}
			r := &t.References[len(t.References)-1]
			r.Columns, r.Targets = append(r.Columns, from), append(r.Targets, identifier(str(row[3])))
			return nil
		},
	)
}

// triggers are the statements that drop the file's triggers, and those that make them again.
func (c *conn) triggers(ctx context.Context) (drop, restore []string, err error) {
	err = c.query(ctx, `SELECT name, sql FROM main.sqlite_schema WHERE type = 'trigger' AND`+applications+` ORDER BY rowid`,
		nil, func(row []driver.Value) error {
			drop = append(drop, "DROP TRIGGER "+identifier(str(row[0])))
			restore = append(restore, str(row[1]))
			return nil
		})
	return drop, restore, err
}

// goOn has AUTOINCREMENT go on where the target's stands.
func goOn(ctx context.Context, source, inside *conn) error {
	if there, err := source.has(ctx, "sqlite_sequence"); err != nil || !there {
		return err
	}
	if err := inside.exec(ctx, "DELETE FROM main.sqlite_sequence WHERE name <> 'vorrang_ledger'"); err != nil {
		return err
	}
	return source.query(ctx, "SELECT name, seq FROM main.sqlite_sequence WHERE name <> 'vorrang_ledger'", nil,
		func(row []driver.Value) error {
			return inside.run(ctx, "INSERT INTO main.sqlite_sequence (name, seq) VALUES (?, ?)", row[0], row[1])
		})
}

// Contents implements engine.RowReader. It reads each table once. The sums are of digests
// of the values with their types, in the order of the columns' names.
func (s *scratch) Contents(ctx context.Context, seen schema.Schema) (engine.Contents, error) {
	columns := schema.Columns(seen)
	all := engine.Contents{}
	for _, o := range seen.Objects {
		if o.Kind != schema.Table || o.Props[schema.Definition] != "" { // a virtual table's rows are elsewhere
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

func (s *scratch) contentsOf(
	ctx context.Context, table string, columns []schema.Object,
) (there engine.TableContents, err error) {
	var locals, read []string
	for _, column := range columns {
		locals = append(locals, column.Local())
	}
	slices.Sort(locals)
	for _, local := range locals {
		read = append(read, "+"+local)
	}
	sums, rows := make([]uint64, len(locals)), uint64(0)
	err = s.own.query(ctx, "SELECT "+strings.Join(append(read, "0"), ", ")+" FROM "+table, nil,
		func(row []driver.Value) error {
			there.Rows++
			var of []byte
			for i := range locals {
				sum := sha256.Sum256(fmt.Appendf(nil, "%T %v", row[i], row[i]))
				sums[i] += binary.BigEndian.Uint64(sum[:])
				of = append(of, sum[:]...)
			}
			sum := sha256.Sum256(of)
			rows += binary.BigEndian.Uint64(sum[:])
			return nil
		})
	there.Sum, there.Columns = strconv.FormatUint(rows, 16), map[string]string{}
	for i, local := range locals {
		there.Columns[local] = strconv.FormatUint(sums[i], 16)
	}
	return there, err
}

// Clone implements engine.Cloner. The copy is of one state of the file, which others may
// write to meanwhile.
func (e Engine) Clone(ctx context.Context, url, _ string, _ bool) (engine.Scratch, error) {
	whole, err := e.find(url)
	if err != nil {
		return nil, err
	}
	session, err := open(ctx, whole, "vorrangd scratch")
	if err != nil {
		return nil, err
	}
	defer session.Close()
	path, err := beside(whole)
	if err != nil {
		return nil, err
	}
	err = session.own.vacuum(func() error { return session.own.run(ctx, "VACUUM main INTO ?", path) })
	if err != nil {
		remove(path)
		return nil, fmt.Errorf("copy the clone beside it: %w", err)
	}
	return e.opened(ctx, path, whole, func(c *conn) error {
		return c.exec(ctx, "DROP TABLE IF EXISTS main.vorrang_ledger")
	})
}
