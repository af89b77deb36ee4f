// Package sample copies some rows of a database to a copy of its schema, for engines that
// tell in their catalogs what tables have, and give no place of a row to choose it by. In
// goes what the tables are; it never writes to the database that it reads.
package sample

import (
	"context"
	"crypto/sha256"
	"fmt"
	"strings"

	"vorrang/core/engine"
)

// Database is a connection. Values are those that its driver gives.
type Database interface {
	// Query hands over the rows of a query, in a slice that is written again for each.
	Query(ctx context.Context, query string, row func([]any) error) error
	// Exec runs a statement with a value for each ? in it.
	Exec(ctx context.Context, statement string, values []any) error
	// Literal is a value as SQL.
	Literal(value any) string
}

// Table is one of whose rows some are copied. Names are SQL, beside those that say
// otherwise.
type Table struct {
	Name       string // as the schema names it
	SQL        string
	Rows       int64  // about how many it has
	Key        string // a column of whole numbers whose order costs little; empty where there is none
	Columns    []Column
	References []Reference
}

// Column is one that holds values of its own.
type Column struct {
	SQL    string
	Read   string // what is selected for it; empty for SQL itself
	Masked string // the data type of one that is masked; empty for others
	// Bounded is a column of a key or a constraint: values near its ends are of interest.
	Bounded bool
	Leads   bool // an index leads with it
	Nulls   bool // there may be rows without a value
}

// Reference is a foreign key.
type Reference struct {
	Columns []int // which columns of the table
	Parent  string
	Targets []string // the parent's columns
}

const (
	// edges is how many rows are taken from each end of a column.
	edges = 2
	// quicklyOrdered is how many rows a table has at most of which values are ordered
	// without an index.
	quicklyOrdered = 20_000
	// windows is from how many places all over a large table rows are taken.
	windows = 10
	// atOnce is how many keys are asked for in one query.
	atOnce = 200
	// A statement that writes rows has at most so many values and bytes.
	mostValues, mostBytes = 4_000, 1 << 20
)

// Copy copies rows from one database, whose transaction the caller opened, to another, in
// which nothing checks them. It blocks until they are there.
func Copy(
	ctx context.Context, from, to Database, tables []Table, how engine.Sample,
) (copied []engine.Sampled, err error) {
	c := copier{from: from, to: to, how: how}
	byName := map[string]*table{}
	for _, t := range tables {
		one := &table{Table: t, seen: map[row]bool{}}
		c.tables = append(c.tables, one)
		byName[t.Name] = one
	}
	for _, t := range c.tables {
		for _, r := range t.References {
			parent := byName[r.Parent]
			if parent == nil { // of another database, or one that is not copied
				continue
			}
			t.wants = append(t.wants, want{parent.asked(r.Targets), r.Columns})
		}
	}
	for _, t := range c.tables {
		if err := c.first(ctx, t); err != nil {
			return nil, fmt.Errorf("copy rows of %s: %w", t.Name, err)
		}
	}
	if err := c.follow(ctx); err != nil {
		return nil, err
	}
	for _, t := range c.tables {
		if n := len(t.seen); n > 0 {
			copied = append(copied, engine.Sampled{Table: t.Name, Rows: int64(n)})
		}
	}
	return copied, nil
}

type copier struct {
	from, to Database
	how      engine.Sample
	tables   []*table
	taken    int // rows of all tables
}

// row is a digest of a row's values.
type row [16]byte

type table struct {
	Table
	seen    map[row]bool
	wants   []want  // what its rows refer to
	keys    []*keys // by which others refer to its rows
	waiting []any   // values of rows that are not written yet
	bytes   int
}

// want are the columns of a foreign key, and where their values are asked for.
type want struct {
	*keys
	columns []int
}

// keys are the values of some columns of a table that others refer to.
type keys struct {
	columns []string
	known   map[row]bool
	pending [][]any
}

// asked finds or makes the keys of some columns.
func (t *table) asked(columns []string) *keys {
	name := strings.Join(columns, "\x00")
	for _, k := range t.keys {
		if strings.Join(k.columns, "\x00") == name {
			return k
		}
	}
	k := &keys{columns: columns, known: map[row]bool{}}
	t.keys = append(t.keys, k)
	return k
}

// digest is of values with their types.
func digest(values []any) (sum row) {
	hash := sha256.New()
	for _, value := range values {
		if text, is := value.([]byte); is {
			value = string(text)
		}
		text := fmt.Sprintf("%T %v", value, value)
		fmt.Fprintf(hash, "%d %s", len(text), text)
	}
	copy(sum[:], hash.Sum(nil))
	return sum
}

func (c *copier) first(ctx context.Context, t *table) error {
	if len(t.Columns) == 0 {
		return nil
	}
	some := c.how.Most
	if t.Key != "" && t.Rows > 4*int64(some) {
		if err := c.spread(ctx, t); err != nil {
			return err
		}
	} else if err := c.take(ctx, t, fmt.Sprintf("LIMIT %d", some)); err != nil {
		return err
	}
	if len(t.seen) < some && t.Rows <= 4*int64(some) {
		return c.flush(ctx, t) // all of them
	}
	for _, column := range t.Columns {
		if !column.Bounded || !column.Leads && t.Rows > quicklyOrdered {
			continue
		}
		const given = "WHERE %[1]s IS NOT NULL ORDER BY %[1]s "
		ends := []string{given + "LIMIT %[2]d", given + "DESC LIMIT %[2]d"}
		if column.Nulls {
			ends = append(ends, "WHERE %[1]s IS NULL LIMIT %[2]d")
		}
		for _, end := range ends {
			if err := c.take(ctx, t, fmt.Sprintf(end, column.SQL, edges)); err != nil {
				return err
			}
		}
	}
	return c.flush(ctx, t)
}

// spread takes rows from all over a large table.
func (c *copier) spread(ctx context.Context, t *table) error {
	for i := range windows {
		// the lowest key and a part of the way to the highest, counted by the server
		from := fmt.Sprintf(
			"(SELECT min(%[1]s) + (max(%[1]s) - min(%[1]s)) / %[3]d * %[4]d FROM %[2]s)", t.Key, t.SQL, windows, i)
		rest := fmt.Sprintf("WHERE %[1]s >= %[2]s ORDER BY %[1]s LIMIT %[3]d", t.Key, from, (c.how.Most+windows-1)/windows)
		if err := c.take(ctx, t, rest); err != nil {
			return err
		}
	}
	return nil
}

// follow copies the rows that copied ones refer to, and those that these refer to.
func (c *copier) follow(ctx context.Context) error {
	for more := true; more; {
		more = false
		for _, t := range c.tables {
			for _, k := range t.keys {
				for len(k.pending) > 0 {
					more = true
					n := min(len(k.pending), atOnce)
					which := c.which(k.columns, k.pending[:n])
					k.pending = k.pending[n:]
					if err := c.take(ctx, t, "WHERE "+which); err != nil {
						return fmt.Errorf("copy the rows of %s that others refer to: %w", t.Name, err)
					}
				}
			}
			if err := c.flush(ctx, t); err != nil {
				return fmt.Errorf("copy rows of %s: %w", t.Name, err)
			}
		}
	}
	return nil
}

// which is the condition of rows with one of some keys.
func (c *copier) which(columns []string, list [][]any) string {
	any := make([]string, len(list))
	for i, key := range list {
		all := make([]string, len(key))
		for j, value := range key {
			all[j] = columns[j] + " = " + c.from.Literal(value)
		}
		any[i] = strings.Join(all, " AND ")
	}
	return strings.Join(any, " OR ")
}

// take reads rows, and writes those that were not read before.
func (c *copier) take(ctx context.Context, t *table, rest string) error {
	read := make([]string, len(t.Columns))
	for i, column := range t.Columns {
		read[i] = column.Read
		if column.Read == "" {
			read[i] = column.SQL
		}
	}
	return c.from.Query(ctx, "SELECT "+strings.Join(read, ", ")+" FROM "+t.SQL+" "+rest, func(values []any) error {
		sum := digest(values)
		if t.seen[sum] {
			return nil
		}
		if c.taken++; c.taken > engine.MostSampled {
			return engine.ErrSampleTooLarge
		}
		t.seen[sum] = true
		for _, w := range t.wants {
			w.note(values)
		}
		return c.write(ctx, t, values)
	})
}

// note asks for the row that another refers to, unless a value is missing.
func (w want) note(values []any) {
	key := make([]any, len(w.columns))
	for i, column := range w.columns {
		switch value := values[column].(type) {
		case nil:
			return
		case []byte:
			key[i] = string(value) // the driver writes over it
		default:
			key[i] = value
		}
	}
	if sum := digest(key); !w.known[sum] {
		w.known[sum] = true
		w.pending = append(w.pending, key)
	}
}

// write has a row written with others.
func (c *copier) write(ctx context.Context, t *table, values []any) error {
	for i, value := range values {
		if text, is := value.([]byte); is {
			value = append([]byte{}, text...)
			t.bytes += len(text)
		}
		if text, is := value.(string); is {
			t.bytes += len(text)
		}
		if dataType := t.Columns[i].Masked; dataType != "" {
			value = c.masked(dataType, value)
		}
		t.waiting = append(t.waiting, value)
	}
	if len(t.waiting) > mostValues || t.bytes > mostBytes {
		return c.flush(ctx, t)
	}
	return nil
}

func (c *copier) flush(ctx context.Context, t *table) error {
	if len(t.waiting) == 0 {
		return nil
	}
	into := make([]string, len(t.Columns))
	for i, column := range t.Columns {
		into[i] = column.SQL
	}
	one := "(?" + strings.Repeat(", ?", len(into)-1) + ")"
	rows := one + strings.Repeat(", "+one, len(t.waiting)/len(into)-1)
	err := c.to.Exec(ctx, "INSERT INTO "+t.SQL+" ("+strings.Join(into, ", ")+") VALUES "+rows, t.waiting)
	t.waiting, t.bytes = t.waiting[:0], 0
	return err
}

// masked is the made-up value for a real one, of the same type.
func (c *copier) masked(dataType string, value any) any {
	switch value := value.(type) {
	case nil:
		return nil
	case []byte:
		return []byte(c.how.Mask(dataType, string(value)))
	case string:
		return c.how.Mask(dataType, value)
	case int64:
		var made int64
		if _, err := fmt.Sscan(c.how.Mask(dataType, fmt.Sprint(value)), &made); err == nil {
			return made
		}
	case float64:
		var made float64
		if _, err := fmt.Sscan(c.how.Mask(dataType, fmt.Sprint(value)), &made); err == nil {
			return made
		}
	}
	return nil // rather no value than a real one
}
