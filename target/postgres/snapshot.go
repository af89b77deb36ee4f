package postgres

import (
	"context"
	_ "embed"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"vorrang/core/schema"
)

//go:embed snapshot.sql
var snapshotSQL string

//go:embed uncovered.sql
var uncoveredSQL string

// Snapshot reads the schema from the catalogs, as one consistent state. It
// takes no lock that blocks others, and needs no right but to read catalogs.
// No schemas means all but the system's and Vorrang's. It can stand in an open
// transaction, and then sees what that did.
func (s *Session) Snapshot(ctx context.Context, schemas []string) (schema.Schema, error) {
	return s.snapshot(ctx, schemas, false)
}

// SnapshotWithNeeds is Snapshot, and also reads which object needs which others.
func (s *Session) SnapshotWithNeeds(ctx context.Context, schemas []string) (schema.Schema, error) {
	return s.snapshot(ctx, schemas, true)
}

func (s *Session) snapshot(ctx context.Context, schemas []string, needs bool) (schema.Schema, error) {
	begin, end := "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", "ROLLBACK"
	if s.InTransaction() {
		begin, end = "SAVEPOINT vorrang_snapshot", "ROLLBACK TO vorrang_snapshot; RELEASE vorrang_snapshot"
	}
	if err := s.exec(ctx, begin+"; SELECT pg_catalog.set_config('search_path', '', true), pg_catalog.set_config('jit', 'off', true)"); err != nil {
		return schema.Schema{}, fmt.Errorf("read the schema: %w", err)
	}
	seen, err := s.read(ctx, schemas, needs)
	if ended := s.exec(ctx, end); err == nil && ended != nil {
		err = ended
	}
	if err != nil {
		return schema.Schema{}, fmt.Errorf("read the schema: %w", s.wrap(err))
	}
	return seen, nil
}

// id is an object's address in its database's catalogs.
type id struct {
	class, object uint32
	sub           int32
}

func (s *Session) read(ctx context.Context, schemas []string, needs bool) (schema.Schema, error) {
	rows, err := s.conn.Query(ctx, s.snapshotQuery(), pgx.QueryExecModeDescribeExec, schemas)
	if err != nil {
		return schema.Schema{}, err
	}
	var objects []schema.Object
	var at []id
	for rows.Next() {
		// By hand, since a large schema has tens of thousands of rows.
		raw := rows.RawValues()
		o := schema.Object{Kind: schema.Kind(raw[0]), Name: string(raw[1]), Of: string(raw[2]), Place: int(number(raw[6])), Props: properties(raw[7])}
		objects = append(objects, o)
		at = append(at, id{class: number(raw[3]), object: number(raw[4]), sub: int32(number(raw[5]))})
	}
	if err := rows.Err(); err != nil {
		return schema.Schema{}, err
	}
	if needs {
		if err := s.needs(ctx, objects, at); err != nil {
			return schema.Schema{}, err
		}
	}
	rows, err = s.conn.Query(ctx, uncoveredSQL)
	if err != nil {
		return schema.Schema{}, err
	}
	uncovered, err := pgx.CollectRows(rows, pgx.RowToStructByPos[schema.Uncovered])
	return schema.New(objects, uncovered), err
}

// number reads a four-byte integer, and properties an array of texts, in the
// server's binary form. Source: PostgreSQL's array_send.
func number(raw []byte) uint32 { return binary.BigEndian.Uint32(raw) }

func properties(raw []byte) map[string]string {
	props := map[string]string{}
	if number(raw) == 0 { // no dimension: empty
		return props
	}
	count := number(raw[12:])
	raw = raw[20:]
	for range count {
		size := number(raw)
		if key, value, _ := strings.Cut(string(raw[4:4+size]), "="); value != "" {
			props[key] = value
		}
		raw = raw[4+size:]
	}
	return props
}

// snapshotQuery is the query as the server's version can take it.
func (s *Session) snapshotQuery() string {
	query := snapshotSQL
	if s.version < 150000 {
		before, rest, _ := strings.Cut(query, "    UNION ALL -- from version 15 on\n")
		_, after, _ := strings.Cut(rest, "\n)\nSELECT")
		query = strings.NewReplacer("pg_get_expr(t.prqual, t.prrelid)", "NULL", "a.attnum = ANY (t.prattrs)", "false").Replace(before + ")\nSELECT" + after)
	}
	if s.version < 140000 {
		query = strings.ReplaceAll(query, "a.attcompression", "''")
	}
	if s.version < 130000 {
		query = strings.ReplaceAll(query, "t.tgparentid = 0", "true")
	}
	return query
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
	rows, err := s.conn.Query(ctx, `SELECT classid, objid, objsubid, refclassid, refobjid, refobjsubid, deptype::text, classid = 'pg_catalog.pg_attrdef'::regclass
		FROM pg_catalog.pg_depend WHERE objid >= 16384 AND (refobjid >= 16384 OR refclassid = 'pg_catalog.pg_namespace'::regclass)`)
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
		if err := rows.Scan(&e.from.class, &e.from.object, &e.from.sub, &e.to.class, &e.to.object, &e.to.sub, &how, &e.isDefault); err != nil {
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
		if e.isDefault && o.Props["default"] != "" {
			list = &o.DefaultNeeds
		}
		if !slices.Contains(*list, key) {
			*list = append(*list, key)
		}
	}
	return nil
}
