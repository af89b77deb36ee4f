package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/target/sample"
	"vorrang/target/words"
)

// Sample implements engine.Sampler. The target is read in a transaction that only reads
// and sees one state of its InnoDB tables; others, such as MyISAM's, are read as they are.
func (Engine) Sample(
	ctx context.Context, from engine.Session, to engine.Scratch, how engine.Sample,
) ([]engine.Sampled, error) {
	source, err := dial(ctx, from.(*Session).config, ownSettings)
	if err != nil {
		return nil, err
	}
	defer source.close()
	var begin []string
	if how.Role != "" {
		begin = append(begin, "SET ROLE "+quoted(how.Role))
	}
	begin = append(begin, "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
	if err := source.exec(ctx, begin...); err != nil {
		return nil, fmt.Errorf("begin to read rows: %w", err)
	}
	tables, err := source.sampleTables(ctx, how)
	if err != nil {
		return nil, fmt.Errorf("look for tables with rows: %w", err)
	}
	return to.(*scratch).filled(ctx, source, tables, how)
}

// asTheyAre are the settings of a session in which a row is written as it is in another
// database, whatever constraints say; one that cannot be is an error.
var asTheyAre = with(ownSettings, map[string]string{
	"foreign_key_checks":      "0",
	"check_constraint_checks": "0",
	"sql_mode":                "'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES'",
})

// filled copies rows to a scratch database, without its triggers meanwhile.
func (s *scratch) filled(
	ctx context.Context, source *conn, tables []sample.Table, how engine.Sample,
) ([]engine.Sampled, error) {
	inside, err := dial(ctx, s.config, asTheyAre)
	if err != nil {
		return nil, err
	}
	defer inside.close()
	drop, restore, err := inside.triggers(ctx)
	if err == nil {
		err = inside.exec(ctx, drop...)
	}
	if err != nil {
		return nil, fmt.Errorf("make the copy ready for rows: %w", err)
	}
	copied, err := sample.Copy(ctx, rowsOf{source}, rowsOf{inside}, tables, how)
	if err != nil {
		return nil, err
	}
	if err := goOn(ctx, source, inside, how.Schema); err != nil {
		return nil, fmt.Errorf("copy where sequences stand: %w", err)
	}
	if err := inside.exec(ctx, restore...); err != nil {
		return nil, fmt.Errorf("put the copy's triggers back: %w", err)
	}
	return copied, nil
}

// inBytes are the driver's names of types whose values are no text in any character set.
var inBytes = []string{"BINARY", "VARBINARY", "TINYBLOB", "BLOB", "MEDIUMBLOB", "LONGBLOB", "BIT", "GEOMETRY"}

// rowsOf implements sample.Database.
type rowsOf struct{ *conn }

func (r rowsOf) Query(ctx context.Context, query string, row func([]any) error) error {
	rows, err := r.QueryContext(ctx, query)
	if err != nil {
		return r.wrap(err)
	}
	defer rows.Close()
	columns, err := rows.ColumnTypes()
	if err != nil {
		return r.wrap(err)
	}
	raw, into := make([]sql.RawBytes, len(columns)), make([]any, len(columns))
	for i := range raw {
		into[i] = &raw[i]
	}
	values := make([]any, len(columns))
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return r.wrap(err)
		}
		for i, value := range raw {
			switch values[i] = nil; {
			case value == nil:
			case slices.Contains(inBytes, columns[i].DatabaseTypeName()):
				values[i] = []byte(value)
			default: // what the server converts
				values[i] = string(value)
			}
		}
		if err := row(values); err != nil {
			return err
		}
	}
	return r.wrap(rows.Err())
}

func (r rowsOf) Exec(ctx context.Context, statement string, values []any) error {
	_, err := r.ExecContext(ctx, statement, values...)
	return r.wrap(err)
}

func (rowsOf) Literal(value any) string {
	text := fmt.Sprint(value)
	if !utf8.ValidString(text) {
		return fmt.Sprintf("X'%x'", text)
	}
	return literal(text)
}

// What there is to copy is asked for in lists of its own kind each: the server joins two of
// them by reading the second for each row of the first.
const (
	// whichTables are the tables, and about how many rows each has.
	whichTables = `SELECT TABLE_NAME, COALESCE(TABLE_ROWS, 0) FROM information_schema.TABLES
WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE IN ('BASE TABLE', 'SYSTEM VERSIONED') AND TABLE_NAME NOT LIKE 'vorrang\\_%'`

	// whichColumns are those that hold values of their own, of views too, of what type, and
	// whether there may be none.
	whichColumns = `SELECT TABLE_NAME, COLUMN_NAME, DATA_TYPE, IS_NULLABLE FROM information_schema.COLUMNS
WHERE TABLE_SCHEMA = DATABASE() AND IS_GENERATED = 'NEVER' AND EXTRA NOT LIKE '%GENERATED%'
ORDER BY TABLE_NAME, ORDINAL_POSITION`

	whichIndexes = `SELECT TABLE_NAME, COLUMN_NAME, INDEX_NAME, SEQ_IN_INDEX FROM information_schema.STATISTICS
WHERE TABLE_SCHEMA = DATABASE()`

	whichReferences = `SELECT TABLE_NAME, CONSTRAINT_NAME, COLUMN_NAME, REFERENCED_TABLE_NAME, REFERENCED_COLUMN_NAME
FROM information_schema.KEY_COLUMN_USAGE WHERE TABLE_SCHEMA = DATABASE() AND REFERENCED_TABLE_SCHEMA = DATABASE()
ORDER BY TABLE_NAME, CONSTRAINT_NAME, ORDINAL_POSITION`

	whichChecks = `SELECT TABLE_NAME, CHECK_CLAUSE FROM information_schema.CHECK_CONSTRAINTS
WHERE CONSTRAINT_SCHEMA = DATABASE()`
)

var whole = []string{"tinyint", "smallint", "mediumint", "int", "bigint"}

// sampleTables reads what there is to copy.
func (c *conn) sampleTables(ctx context.Context, how engine.Sample) ([]sample.Table, error) {
	var tables []*sample.Table
	place := map[string]map[string]int{} // of a column, by its table's name and its own
	types := map[string]string{}
	byName := map[string]*sample.Table{}
	rows := map[string]string{}
	err := c.each(ctx, whichTables, nil, func(row []string) error {
		rows[row[0]] = row[1]
		return nil
	})
	if err != nil {
		return nil, err
	}
	err = c.each(ctx, whichColumns, nil, func(row []string) error {
		about, is := rows[row[0]]
		if !is { // of a view
			return nil
		}
		t := byName[row[0]]
		if t == nil {
			t = &sample.Table{Name: plainName(row[0]), SQL: quoted(row[0])}
			_, _ = fmt.Sscan(about, &t.Rows)
			byName[row[0]], place[row[0]] = t, map[string]int{}
			tables = append(tables, t)
		}
		place[row[0]][row[1]] = len(t.Columns)
		types[row[0]+"\x00"+row[1]] = row[2]
		column := sample.Column{SQL: quoted(row[1]), Nulls: row[3] == "YES"}
		if how.Masked[t.Name+"."+plainName(row[1])] {
			column.Masked = row[2]
		}
		t.Columns = append(t.Columns, column)
		return nil
	})
	if err != nil {
		return nil, err
	}
	column := func(table, name string) *sample.Column {
		if at, is := place[table][name]; is {
			return &byName[table].Columns[at]
		}
		return &sample.Column{}
	}
	err = c.each(ctx, whichIndexes, nil, func(row []string) error {
		one := column(row[0], row[1])
		one.Bounded = true
		if row[3] == "1" {
			one.Leads = true
			if row[2] == "PRIMARY" && byName[row[0]] != nil && slices.Contains(whole, types[row[0]+"\x00"+row[1]]) {
				byName[row[0]].Key = quoted(row[1])
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	last := ""
	err = c.each(ctx, whichReferences, nil, func(row []string) error {
		t, at := byName[row[0]], place[row[0]]
		position, is := at[row[2]]
		if t == nil || !is || byName[row[3]] == nil {
			return nil
		}
		if id := row[0] + "\x00" + row[1]; id != last {
			last = id
			t.References = append(t.References, sample.Reference{Parent: byName[row[3]].Name})
		}
		r := &t.References[len(t.References)-1]
		r.Columns, r.Targets = append(r.Columns, position), append(r.Targets, quoted(row[4]))
		return nil
	})
	if err != nil {
		return nil, err
	}
	err = c.each(ctx, whichChecks, nil, func(row []string) error {
		for name, at := range place[row[0]] {
			if words.Mention(quoted(name)).MatchString(row[1]) {
				byName[row[0]].Columns[at].Bounded = true
			}
		}
		return nil
	})
	list := make([]sample.Table, len(tables))
	for i, t := range tables {
		list[i] = *t
	}
	return list, err
}

// triggers are the statements that drop the database's triggers, and those that make them
// again as they were, in their order.
func (c *conn) triggers(ctx context.Context) (drop, restore []string, err error) {
	var names []string
	err = c.each(ctx, `SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()
		AND EVENT_OBJECT_TABLE NOT LIKE 'vorrang\\_%'
		ORDER BY EVENT_OBJECT_TABLE, EVENT_MANIPULATION, ACTION_TIMING, ACTION_ORDER`, nil, func(row []string) error {
		names = append(names, row[0])
		return nil
	})
	for _, name := range names {
		if err != nil {
			break
		}
		err = c.each(ctx, "SHOW CREATE TRIGGER "+quoted(name), nil, func(row []string) error {
			drop = append(drop, "DROP TRIGGER "+quoted(name))
			restore = append(restore, fmt.Sprintf(
				"SET sql_mode = %s, character_set_client = %s, collation_connection = %s",
				literal(row[1]), literal(row[3]), literal(row[4])), row[2])
			return nil
		})
	}
	return drop, restore, err
}

// goOn has the copy's sequences, and numbers that the server gives, go on where the
// target's stand.
func goOn(ctx context.Context, source, inside *conn, of schema.Schema) error {
	for _, o := range of.Objects {
		if o.Kind != schema.Sequence {
			continue
		}
		next, err := source.number(ctx, "SELECT next_not_cached_value FROM "+o.Name)
		if err != nil {
			return err
		}
		if err := inside.exec(ctx, fmt.Sprintf("SELECT SETVAL(%s, %d, 0)", o.Name, next)); err != nil {
			return err
		}
	}
	var set []string
	err := source.each(ctx, `SELECT TABLE_NAME, AUTO_INCREMENT FROM information_schema.TABLES WHERE
		TABLE_SCHEMA = DATABASE() AND AUTO_INCREMENT > 1 AND TABLE_NAME NOT LIKE 'vorrang\\_%'`, nil,
		func(row []string) error {
			set = append(set, "ALTER TABLE "+quoted(row[0])+" AUTO_INCREMENT = "+row[1])
			return nil
		})
	if err != nil {
		return err
	}
	return inside.exec(ctx, set...)
}

// Contents implements engine.RowReader. It reads each table once. The sums are of the
// server's own hash of the values as text, in the order of the columns' names.
func (s *scratch) Contents(ctx context.Context, seen schema.Schema) (engine.Contents, error) {
	columns := schema.Columns(seen)
	all := engine.Contents{}
	for _, o := range seen.Objects {
		if o.Kind != schema.Table {
			continue
		}
		there := engine.TableContents{Columns: map[string]string{}}
		// HEX keeps texts of different character sets apart from each other; CONCAT gives a
		// number as text.
		sum := func(value string) string {
			return "COALESCE(SUM(CAST(CONV(LEFT(MD5(" + value + "), 15), 16, 10) AS UNSIGNED)), 0)"
		}
		byName := slices.SortedFunc(slices.Values(columns[o.Name]), func(a, b schema.Object) int {
			return strings.Compare(a.Name, b.Name)
		})
		row, sums := "''", []string{}
		var values []string
		for _, column := range byName {
			value := "COALESCE(HEX(CONCAT(" + column.Local() + ")), '-')"
			values, sums = append(values, value), append(sums, sum(value))
		}
		if len(values) > 0 {
			row = "CONCAT_WS(' ', " + strings.Join(values, ", ") + ")"
		}
		asked := append([]string{"COUNT(*)", sum(row)}, sums...)
		err := s.own.each(ctx, "SELECT "+strings.Join(asked, ", ")+" FROM "+o.Name, nil, func(got []string) error {
			for i, column := range byName {
				there.Columns[column.Local()] = got[2+i]
			}
			there.Sum = got[1]
			_, err := fmt.Sscan(got[0], &there.Rows)
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("read the rows of %s: %w", o.Name, err)
		}
		all[o.Name] = there
	}
	return all, nil
}
