package postgres

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/core/sqltext"
)

// copyTo sends the chosen rows to a scratch database, in which nothing else looks at them
// meanwhile: foreign keys are asked at the end, and triggers rest.
func (s *sampler) copyTo(scratch *Scratch) (all []engine.Sampled, err error) {
	lift, restore, err := scratch.rests(s.ctx)
	if err != nil {
		return nil, err
	}
	if err := scratch.as(s.ctx, lift); err != nil {
		return nil, fmt.Errorf("make the copy ready for rows: %w", err)
	}
	if err := scratch.exec(s.ctx, scratch.beginAs()+"; SET CONSTRAINTS ALL DEFERRED"); err != nil {
		return nil, err
	}
	for _, t := range s.tables {
		places := s.chosen[t.OID]
		if len(places) == 0 {
			continue
		}
		rows, err := s.copyTable(scratch, t, places)
		if err != nil {
			return nil, fmt.Errorf("copy rows of %s: %w", t.Name, err)
		}
		all = append(all, engine.Sampled{Table: t.Name, Rows: rows})
	}
	if err := s.copySequences(scratch); err != nil {
		return nil, err
	}
	if err := scratch.exec(s.ctx, "COMMIT"); err != nil {
		return nil, fmt.Errorf("copy rows: %w", err)
	}
	if err := scratch.as(s.ctx, restore); err != nil {
		return nil, fmt.Errorf("put the copy's constraints back: %w", err)
	}
	return all, scratch.refresh(s.ctx)
}

// whichStored are the materialized views that have been filled, each after those that it
// reads, also by way of other views.
const whichStored = `WITH RECURSIVE reads (view, what) AS (
	SELECT r.ev_class, d.refobjid FROM pg_catalog.pg_rewrite r JOIN pg_catalog.pg_depend d ON d.objid = r.oid
	AND d.classid = 'pg_catalog.pg_rewrite'::pg_catalog.regclass
	AND d.refclassid = 'pg_catalog.pg_class'::pg_catalog.regclass AND d.refobjid <> r.ev_class
), above (view, levels) AS (
	SELECT oid, 0 FROM pg_catalog.pg_class WHERE relkind = 'm'
	UNION SELECT r.view, a.levels + 1 FROM above a JOIN reads r ON r.what = a.view
) SELECT c.oid::pg_catalog.regclass::text FROM above a JOIN pg_catalog.pg_class c ON c.oid = a.view
WHERE c.relkind = 'm' AND c.relispopulated GROUP BY c.oid ORDER BY max(a.levels), c.oid`

// refresh fills materialized views from the rows that were copied. One whose query fails on
// a part of the rows stays as it is, without any.
func (s *Scratch) refresh(ctx context.Context) error {
	rows, err := s.conn.Query(ctx, whichStored)
	if err != nil {
		return fmt.Errorf("look for materialized views: %w", s.wrap(err))
	}
	views, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return fmt.Errorf("look for materialized views: %w", s.wrap(err))
	}
	for _, view := range views {
		var refused *engine.ServerError
		err := s.as(ctx, []string{"REFRESH MATERIALIZED VIEW " + view})
		if err != nil && !errors.As(err, &refused) {
			return fmt.Errorf("fill the materialized view %s: %w", view, err)
		}
	}
	return nil
}

func (s *sampler) copyTable(scratch *Scratch, t sampledTable, places map[string]bool) (int64, error) {
	var names, masked []string
	for _, column := range s.columns[t.Name] {
		if column.Props[schema.Generated] != "" {
			continue
		}
		names = append(names, column.Local())
		dataType := ""
		if s.how.Masked[column.Name] {
			dataType = column.Props[schema.DataType]
		}
		masked = append(masked, dataType)
	}
	list := make([]string, 0, len(places))
	for place := range places {
		list = append(list, strconv.Quote(place))
	}
	slices.Sort(list)
	out := fmt.Sprintf("COPY (SELECT %s FROM ONLY %s WHERE ctid = ANY (%s::pg_catalog.tid[])) TO STDOUT",
		strings.Join(names, ", "), t.Name, sqltext.Literal("{"+strings.Join(list, ",")+"}"))
	in := fmt.Sprintf("COPY %s (%s) FROM STDIN", t.Name, strings.Join(names, ", "))
	if len(names) == 0 {
		in = fmt.Sprintf("COPY %s FROM STDIN", t.Name)
	}
	reader, writer := io.Pipe()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_, err := s.conn.PgConn().CopyTo(s.ctx, writer, out)
		writer.CloseWithError(s.wrap(err))
	}()
	var lines io.Reader = reader
	if slices.ContainsFunc(masked, func(dataType string) bool { return dataType != "" }) {
		lines = s.masking(reader, masked)
	}
	tag, err := scratch.conn.PgConn().CopyFrom(s.ctx, lines, in)
	// Where the rows are not wanted, the target still sends them to the end: a driver gives
	// a connection up on which it is cut off.
	_, _ = io.Copy(io.Discard, lines)
	<-ended
	return tag.RowsAffected(), scratch.wrap(err)
}

// masking replaces the values of the columns that have a data type here.
func (s *sampler) masking(from io.Reader, dataTypes []string) io.Reader {
	reader, writer := io.Pipe()
	go func() {
		in, out := bufio.NewReaderSize(from, 1<<16), bufio.NewWriter(writer)
		for {
			line, err := in.ReadBytes('\n')
			if len(line) > 0 {
				values := bytes.Split(bytes.TrimSuffix(line, []byte("\n")), []byte("\t"))
				for i, dataType := range dataTypes {
					if dataType != "" && i < len(values) && string(values[i]) != `\N` {
						values[i] = []byte(copyEscaped.Replace(s.how.Mask(dataType, copyUnescaped(string(values[i])))))
					}
				}
				_, _ = out.Write(bytes.Join(values, []byte("\t"))) // Flush gives the error
				_ = out.WriteByte('\n')
			}
			if err != nil {
				if err == io.EOF {
					err = nil
				}
				if flushed := out.Flush(); err == nil {
					err = flushed
				}
				writer.CloseWithError(err)
				return
			}
		}
	}()
	return reader
}

// Source of the form: https://www.postgresql.org/docs/current/sql-copy.html#id-1.9.3.55.9.2
var copyEscaped = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`, "\t", `\t`, "\b", `\b`, "\f", `\f`, "\v", `\v`)

var copyLetters = map[byte]byte{'n': '\n', 'r': '\r', 't': '\t', 'b': '\b', 'f': '\f', 'v': '\v'}

func copyUnescaped(value string) string {
	if !strings.Contains(value, `\`) {
		return value
	}
	var b strings.Builder
	for i := 0; i < len(value); i++ {
		c := value[i]
		if c == '\\' && i+1 < len(value) {
			i++
			if c = value[i]; copyLetters[c] != 0 {
				c = copyLetters[c]
			}
		}
		b.WriteByte(c)
	}
	return b.String()
}

// copySequences has the copy's sequences go on where the target's stand.
func (s *sampler) copySequences(scratch *Scratch) error {
	for _, o := range s.how.Schema.Objects {
		if o.Kind != schema.Sequence {
			continue
		}
		set, err := s.position(s.ctx, o.Name)
		if err == nil {
			err = scratch.exec(s.ctx, set)
		}
		if err != nil {
			return fmt.Errorf("copy where the sequence %s stands: %w", o.Name, err)
		}
	}
	return nil
}

// beginAs opens a transaction of the role that owns a scratch database.
func (s *Scratch) beginAs() string {
	if s.Role == "" {
		return "BEGIN"
	}
	return "BEGIN; SET LOCAL ROLE " + sqltext.Identifier(s.Role)
}

// as runs statements in a transaction of that role.
func (s *Scratch) as(ctx context.Context, statements []string) error {
	err := s.exec(ctx, s.beginAs()+"; "+strings.Join(append(statements, "COMMIT"), "; "))
	if err != nil {
		_ = s.exec(context.WithoutCancel(ctx), "ROLLBACK") // the first error says more
	}
	return err
}

// whatRests are the statements that lift what would stand in the way of rows as they are,
// and those that put it back: foreign keys become deferrable, constraints that are not
// validated go, and triggers rest.
const whatRests = `SELECT 'ALTER TABLE ' || conrelid::pg_catalog.regclass || CASE WHEN convalidated
		THEN ' ALTER CONSTRAINT ' || pg_catalog.quote_ident(conname) || ' DEFERRABLE'
		ELSE ' DROP CONSTRAINT ' || pg_catalog.quote_ident(conname) END,
	'ALTER TABLE ' || conrelid::pg_catalog.regclass || CASE
		WHEN convalidated THEN ' ALTER CONSTRAINT ' || pg_catalog.quote_ident(conname) || ' NOT DEFERRABLE'
		ELSE ' ADD CONSTRAINT ' || pg_catalog.quote_ident(conname) || ' ' || pg_catalog.pg_get_constraintdef(oid)
			|| coalesce('; COMMENT ON CONSTRAINT ' || pg_catalog.quote_ident(conname) || ' ON ' || conrelid::pg_catalog.regclass
				|| ' IS ' || pg_catalog.quote_literal(pg_catalog.obj_description(oid, 'pg_constraint')), '') END
FROM pg_catalog.pg_constraint
	WHERE connamespace NOT IN ('pg_catalog'::pg_catalog.regnamespace, 'information_schema'::pg_catalog.regnamespace)
	AND conrelid <> 0 AND conislocal AND coninhcount = 0 AND conparentid = 0 AND (NOT convalidated OR contype = 'f'
	AND NOT condeferrable)
UNION ALL SELECT 'ALTER TABLE ' || tgrelid::pg_catalog.regclass || ' DISABLE TRIGGER ' || pg_catalog.quote_ident(tgname),
	'ALTER TABLE ' || tgrelid::pg_catalog.regclass || CASE tgenabled WHEN 'R' THEN ' ENABLE REPLICA TRIGGER '
		WHEN 'A' THEN ' ENABLE ALWAYS TRIGGER '
		ELSE ' ENABLE TRIGGER ' END || pg_catalog.quote_ident(tgname)
FROM pg_catalog.pg_trigger t JOIN pg_catalog.pg_class c ON c.oid = t.tgrelid
WHERE NOT tgisinternal AND tgenabled <> 'D' AND c.relkind = 'r'
	AND c.relnamespace::pg_catalog.regnamespace::text <> '` + ledgerSchema + `'`

func (s *Scratch) rests(ctx context.Context) (lift, restore []string, err error) {
	rows, err := s.conn.Query(ctx, whatRests)
	if err != nil {
		return nil, nil, fmt.Errorf("look what constraints the copy has: %w", s.wrap(err))
	}
	var up, back string
	_, err = pgx.ForEachRow(rows, []any{&up, &back}, func() error {
		lift, restore = append(lift, up), append(restore, back)
		return nil
	})
	if err != nil {
		return nil, nil, fmt.Errorf("look what constraints the copy has: %w", s.wrap(err))
	}
	return lift, restore, nil
}
