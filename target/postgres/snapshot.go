package postgres

import (
	"cmp"
	"context"
	_ "embed"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/core/sqltext"
	"vorrang/internal/safely"
)

//go:embed snapshot.sql
var snapshotSQL string

//go:embed uncovered.sql
var uncoveredSQL string

// lookPatience is how long a look waits for a table that another session holds for
// themselves, in milliseconds: the server reads a view's definition under the
// lock of a SELECT.
const lookPatience = "5000"

// Snapshot reads the schema from the catalogs, as one consistent state. It
// takes no lock but what a SELECT takes on the tables under views, and needs no
// right but to read catalogs.
// No schemas means all but the system's and Vorrang's. What a step's open
// transaction did is not seen.
func (s *Session) Snapshot(ctx context.Context, schemas []string) (schema.Schema, error) {
	return s.snapshot(ctx, schemas, false)
}

// SnapshotWithNeeds is Snapshot, and also reads which object needs which others.
func (s *Session) SnapshotWithNeeds(ctx context.Context, schemas []string) (schema.Schema, error) {
	return s.snapshot(ctx, schemas, true)
}

// prepared lets a session that looks again and again, as a deployment does, plan
// its queries once: that takes longer than to run them on a small schema.
const prepared = pgx.QueryExecModeCacheStatement

func (s *Session) snapshot(ctx context.Context, schemas []string, needs bool) (schema.Schema, error) {
	if err := s.exec(ctx, oneState+quietly); err != nil {
		return schema.Schema{}, fmt.Errorf("read the schema: %w", err)
	}
	seen, err := s.read(ctx, schemas, needs)
	if ended := s.exec(ctx, "ROLLBACK"); err == nil && ended != nil {
		err = ended
	}
	if err != nil {
		return schema.Schema{}, s.unread(s.wrap(err))
	}
	return seen, nil
}

// unread names the right that is missing to read the schema, if one is.
func (s *Session) unread(err error) error {
	const insufficientPrivilege = "42501"
	var refused *engine.ServerError
	if errors.As(err, &refused) && refused.SQLState == insufficientPrivilege {
		if _, table, is := strings.Cut(refused.Message, "permission denied for table "); is {
			return fmt.Errorf(
				"read the schema: %w; let user %[2]s read it: GRANT SELECT ON pg_catalog.%[3]s TO %[2]s",
				err, sqltext.Identifier(s.conn.Config().User), table,
			)
		}
	}
	return fmt.Errorf("read the schema: %w", err)
}

// id is an object's address in its database's catalogs.
type id struct {
	class, object uint32
	sub           int32
}

// Statements that begin a look: one state for all queries, every name qualified.
const (
	oneState = "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"
	quietly  = "; SELECT pg_catalog.set_config('search_path', '', true), pg_catalog.set_config('jit', 'off', true), " +
		"pg_catalog.set_config('lock_timeout', '" + lookPatience + "', true)"
)

// found is what a query of the catalogs gave.
type found struct {
	objects []schema.Object
	at      []id
	err     error

	uncovered []schema.Uncovered
}

func (s *Session) read(ctx context.Context, schemas []string, needs bool) (schema.Schema, error) {
	first, second := s.snapshotQueries() // the first takes less, and the helper connects before it reads
	seen := found{}
	helper, shared, room := s.helper(ctx)
	if helper == nil {
		seen = query(ctx, s.conn, first, schemas, room).and(query(ctx, s.conn, second, schemas, room)).withUncovered(ctx, s.conn)
	} else {
		other := make(chan found, 1)
		go func() {
			f := found{}
			fault := safely.Do(func() error {
				if f.err = helper.PgConn().Exec(ctx,
					oneState+"; SET TRANSACTION SNAPSHOT "+sqltext.Literal(shared)+quietly).Close(); f.err == nil {
					f = query(ctx, helper, first, schemas, room).withUncovered(ctx, helper)
				}
				return nil
			})
			f.err = cmp.Or(f.err, fault)
			s.done(ctx, helper, f.err)
			other <- f
		}()
		seen = query(ctx, s.conn, second, schemas, room)
		seen = seen.and(<-other)
	}
	if seen.err != nil {
		return schema.Schema{}, seen.err
	}
	objects := seen.objects
	if needs {
		if err := s.needs(ctx, objects, seen.at); err != nil {
			return schema.Schema{}, err
		}
	}
	return schema.New(objects, seen.uncovered), nil
}

// withUncovered adds what the model does not describe.
func (f found) withUncovered(ctx context.Context, conn *pgx.Conn) found {
	if f.err != nil {
		return f
	}
	rows, err := conn.Query(ctx, uncoveredSQL, prepared)
	if err == nil {
		f.uncovered, err = pgx.CollectRows(rows, pgx.RowToStructByPos[schema.Uncovered])
	}
	f.err = err
	return f
}

// manyRelations is how many tables, indexes and views make a second connection
// worth its while, and someRelations where that is there already.
const (
	manyRelations = 2000
	someRelations = 100
)

// helper decides how to read: it opens a second connection that sees the same state, where there is
// much to read (nil if there is not, or if it cannot be had), and lets plans be
// kept where there is little.
func (s *Session) helper(ctx context.Context) (helper *pgx.Conn, shared string, relations int) {
	enough := manyRelations
	if s.looksOften {
		enough = someRelations
	}
	var exported *string
	var mode string
	err := s.conn.QueryRow(ctx, `SELECT pg_catalog.count(*), CASE WHEN pg_catalog.count(*) > $1 THEN pg_catalog.pg_export_snapshot() END,
		pg_catalog.set_config('plan_cache_mode',
		CASE WHEN pg_catalog.count(*) > $2 THEN 'force_custom_plan' ELSE 'force_generic_plan' END, true)
		FROM pg_catalog.pg_class WHERE oid >= 16384`, enough, manyRelations).Scan(&relations, &exported, &mode)
	if err != nil || exported == nil {
		return nil, "", 0
	}
	if helper, s.reader = s.reader, nil; helper == nil || helper.IsClosed() {
		if helper, err = pgx.ConnectConfig(ctx, s.conn.Config().Copy()); err == nil {
			if err = helper.PgConn().Exec(ctx, own).Close(); err != nil {
				_ = helper.Close(context.WithoutCancel(ctx))
			}
		}
	}
	if err != nil { // there are no connections left: then one must do
		return nil, "", relations
	}
	return helper, *exported, relations
}

// done ends a helper's transaction, and keeps it where it is soon needed again.
func (s *Session) done(ctx context.Context, helper *pgx.Conn, failed error) {
	if failed == nil && s.looksOften && helper.PgConn().Exec(ctx, "ROLLBACK").Close() == nil {
		s.reader = helper
		return
	}
	_ = helper.Close(context.WithoutCancel(ctx))
}

func (f found) and(other found) found {
	return found{
		objects:   append(f.objects, other.objects...),
		at:        append(f.at, other.at...),
		err:       cmp.Or(f.err, other.err),
		uncovered: append(f.uncovered, other.uncovered...),
	}
}

// query reads objects by hand, since a large schema has tens of thousands. There is room for so many,
// since to copy a list that grows takes long.
func query(ctx context.Context, conn *pgx.Conn, text string, schemas []string, room int) (f found) {
	rows, err := conn.Query(ctx, text, prepared, schemas)
	if err != nil {
		return found{err: err}
	}
	f = found{objects: make([]schema.Object, 0, room), at: make([]id, 0, room)}
	for rows.Next() {
		raw := rows.RawValues()
		o := schema.Object{
			Kind:  kindOfObject(raw[0]),
			Name:  string(raw[1]),
			Of:    string(raw[2]),
			Place: int(number(raw[6])),
			Props: properties(raw[7]),
		}
		f.objects = append(f.objects, o)
		f.at = append(f.at, id{class: number(raw[3]), object: number(raw[4]), sub: int32(number(raw[5]))})
	}
	f.err = rows.Err()
	return f
}

// kindOfObject is a kind without a text of its own for each object.
func kindOfObject(raw []byte) schema.Kind {
	for _, kind := range schema.Kinds {
		if string(kind) == string(raw) {
			return kind
		}
	}
	return schema.Kind(raw)
}

// number reads a four-byte integer, and properties an array of texts, in the
// server's binary form. Source: PostgreSQL's array_send.
func number(raw []byte) uint32 { return binary.BigEndian.Uint32(raw) }

func properties(raw []byte) schema.Props {
	props := schema.Props{}
	if number(raw) == 0 { // no dimension: empty
		return props
	}
	count := number(raw[12:])
	raw = raw[20:]
	for range count {
		size := number(raw)
		if raw = raw[4:]; int32(size) < 0 { // null
			continue
		}
		if key, value, _ := strings.Cut(string(raw[:size]), "="); value != "" {
			props[schema.Property(key)] = value
		}
		raw = raw[size:]
	}
	return props
}

// snapshotQueries are the two halves of the query, as the server's version can
// take them.
func (s *Session) snapshotQueries() (first, second string) {
	query := snapshotSQL
	if s.version < 150000 {
		before, rest, _ := strings.Cut(query, "    UNION ALL -- from version 15 on\n")
		_, after, _ := strings.Cut(rest, "\n)\nSELECT")
		query = strings.NewReplacer("pg_get_expr(t.prqual, t.prrelid)", "NULL", "a.attnum = ANY (t.prattrs)", "false").
			Replace(before + ")\nSELECT" + after)
	}
	if s.version < 140000 {
		query = strings.ReplaceAll(query, "a.attcompression", "''")
	}
	if s.version < 130000 {
		query = strings.ReplaceAll(query, "t.tgparentid = 0", "true")
	}
	const objects = "object (kind, name, of, class, id, sub, place, props) AS (\n"
	query, tail, _ := strings.Cut(query, "\n)\nSELECT ")
	tail = "\n)\nSELECT " + tail
	one, other, _ := strings.Cut(query, "\n    UNION ALL -- the second half\n")
	return one + tail, one[:strings.Index(one, objects)+len(objects)] + other + tail
}

// needs fills in what each object needs, as the server keeps it. What is no
// object of the model, such as a view's rule, a table's row type or a
// constraint's index, stands for what it is a part of.
// Source: PostgreSQL's documentation, pg_depend.
func (s *Session) needs(ctx context.Context, objects []schema.Object, at []id) error {
	known := make(map[id]int, len(objects))
	for i, where := range at {
		known[where] = i
	}
	rows, err := s.conn.Query(
		ctx,
		`SELECT classid, objid, objsubid, refclassid, refobjid, refobjsubid, deptype::text,
			classid = 'pg_catalog.pg_attrdef'::regclass
		FROM pg_catalog.pg_depend WHERE objid >= 16384 AND (refobjid >= 16384
			OR refclassid = 'pg_catalog.pg_namespace'::regclass)`,
	)
	if err != nil {
		return err
	}
	type edge struct {
		from, to  id
		isDefault bool
	}
	var edges []edge
	parts := map[id]id{}     // part → whole
	follows := map[id]bool{} // what a partition has because its parent has it
	strength := map[id]int{}
	for rows.Next() {
		var e edge
		var how string
		if err := rows.Scan(&e.from.class, &e.from.object, &e.from.sub, &e.to.class, &e.to.object, &e.to.sub, &how,
			&e.isDefault); err != nil {
			rows.Close()
			return err
		}
		if how == "P" || how == "S" {
			follows[e.from] = true
		}
		edges = append(edges, e)
		if rank := strings.Index("nePSai", how) + 1; rank > 1 && rank > strength[e.from] {
			parts[e.from], strength[e.from] = e.to, rank
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	resolve := func(where id) (int, bool) {
		for range 8 { // a chain of parts is short
			if i, is := known[where]; is {
				return i, true
			}
			if i, is := known[id{class: where.class, object: where.object}]; is {
				return i, true
			}
			whole, is := parts[where]
			if !is {
				if whole, is = parts[id{class: where.class, object: where.object}]; !is {
					return 0, false
				}
			}
			where = whole
		}
		return 0, false
	}
	for _, e := range edges {
		if _, is := known[e.from]; follows[e.from] && !is {
			continue
		}
		from, is := resolve(e.from)
		to, also := resolve(e.to)
		if !is || !also || from == to {
			continue
		}
		o, key := &objects[from], objects[to].Key()
		list := &o.Needs
		if e.isDefault && o.Props[schema.Default] != "" {
			list = &o.DefaultNeeds
		}
		if !slices.Contains(*list, key) {
			*list = append(*list, key)
		}
	}
	return nil
}
