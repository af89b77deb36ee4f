package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/core/sqltext"
)

// Sample implements engine.Sampler. Rows are chosen by where they stand, in one
// transaction that only reads and sees one state; foreign keys are followed until no row
// lacks the one that it refers to.
func (Engine) Sample(
	ctx context.Context, from engine.Session, to engine.Scratch, how engine.Sample,
) (all []engine.Sampled, err error) {
	source, scratch := from.(*Session), to.(*Scratch)
	begin := "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SET LOCAL lock_timeout = '5s'"
	if how.Role != "" {
		begin += "; SET LOCAL ROLE " + sqltext.Identifier(how.Role)
	}
	if err := source.exec(ctx, begin); err != nil {
		return nil, fmt.Errorf("begin to read rows: %w", err)
	}
	defer func() { _ = source.exec(context.WithoutCancel(ctx), "ROLLBACK") }() // nothing was changed
	s := sampler{
		Session: source,
		ctx:     ctx,
		how:     how,
		chosen:  map[uint32]map[string]bool{},
		columns: schema.Columns(how.Schema),
	}
	if err := s.choose(); err != nil {
		return nil, err
	}
	return s.copyTo(scratch)
}

// sampler chooses rows of a target.
type sampler struct {
	*Session
	ctx     context.Context
	how     engine.Sample
	columns map[string][]schema.Object // by table
	tables  []sampledTable
	chosen  map[uint32]map[string]bool // where the rows stand, by the table's oid
	taken   int                        // rows that are chosen
}

type sampledTable struct {
	Name string // as the schema names it
	OID  uint32
	Rows float64 // about
}

// holdsRows reports whether an object is a table that has rows of its own.
func holdsRows(o schema.Object) bool {
	return o.Kind == schema.Table && o.Props[schema.Partitioned] == "" && o.Props[schema.OnServer] == ""
}

// A table of which the server has no statistics is taken to have a row for each 100 bytes.
const whichTables = `SELECT name, c.oid,
	(CASE WHEN c.reltuples > 0 THEN c.reltuples ELSE pg_catalog.pg_relation_size(c.oid) / 100 END)::float8
FROM pg_catalog.unnest($1::text[]) AS name
JOIN pg_catalog.pg_class c ON c.oid = pg_catalog.to_regclass(name) AND c.relkind = 'r' ORDER BY name`

func (s *sampler) choose() error {
	var names []string
	for _, o := range s.how.Schema.Objects {
		if holdsRows(o) {
			names = append(names, o.Name)
		}
	}
	rows, err := s.conn.Query(s.ctx, whichTables, names)
	if err == nil {
		s.tables, err = pgx.CollectRows(rows, pgx.RowToStructByPos[sampledTable])
	}
	if err != nil {
		return fmt.Errorf("look for tables with rows: %w", s.wrap(err))
	}
	for _, t := range s.tables {
		if err := s.first(t); err != nil {
			return fmt.Errorf("choose rows of %s: %w", t.Name, s.wrap(err))
		}
	}
	for _, query := range s.how.Also {
		s.also(query)
	}
	return s.follow()
}

// mostAlso is how many rows are taken for each query of others.
const mostAlso = 20

// also takes rows that a query is about, if the server gives them soon: it may be about
// what a step makes first.
func (s *sampler) also(query string) {
	rest, is := strings.CutPrefix(query, "SELECT 1 ")
	limit := fmt.Sprintf("SAVEPOINT also; SET LOCAL statement_timeout = %d", engine.AskPatience.Milliseconds())
	if !is || s.exec(s.ctx, limit) != nil {
		return
	}
	if _, err := s.take(fmt.Sprintf("SELECT tableoid, ctid::text %s LIMIT %d", rest, mostAlso)); err != nil {
		_ = s.exec(s.ctx, "ROLLBACK TO also") // the next statement tells
		return
	}
	_ = s.exec(s.ctx, "SET LOCAL statement_timeout = 0") // the next statement tells
}

// take notes rows that are chosen, and returns those that were not yet.
func (s *sampler) take(query string, args ...any) (fresh map[uint32][]string, err error) {
	rows, err := s.conn.Query(s.ctx, query, args...)
	if err != nil {
		return nil, err
	}
	fresh = map[uint32][]string{}
	var table uint32
	var place string
	_, err = pgx.ForEachRow(rows, []any{&table, &place}, func() error {
		if s.chosen[table] == nil {
			s.chosen[table] = map[string]bool{}
		}
		if !s.chosen[table][place] {
			if s.taken++; s.taken > engine.MostSampled {
				return engine.ErrSampleTooLarge
			}
			s.chosen[table][place] = true
			fresh[table] = append(fresh[table], place)
		}
		return nil
	})
	return fresh, err
}

// Of a table with more rows than these, values are only ordered where an index has them
// in order, so that choosing costs the target little.
const quicklyOrdered = 20_000

// edges is how many rows are taken from each end of a column.
const edges = 2

// whichEdges are the columns of keys, indexes and constraints that have an order worth
// looking at, and whether an index leads with them.
const whichEdges = `SELECT pg_catalog.quote_ident(a.attname), pg_catalog.bool_or(u.leads), NOT a.attnotnull FROM (
	SELECT k AS column, i.indisvalid AND k = i.indkey[0] AS leads
	FROM pg_catalog.pg_index i, pg_catalog.unnest(i.indkey::int2[]) AS k WHERE i.indrelid = $1
	UNION ALL SELECT k, false FROM pg_catalog.pg_constraint c, pg_catalog.unnest(c.conkey) AS k WHERE c.conrelid = $1
) u JOIN pg_catalog.pg_attribute a ON a.attrelid = $1 AND a.attnum = u.column AND a.attnum > 0
JOIN pg_catalog.pg_type t ON t.oid = a.atttypid AND t.typcategory IN ('N', 'D', 'S', 'T', 'E', 'B')
GROUP BY a.attnum, a.attname, a.attnotnull ORDER BY a.attnum`

// first chooses rows of a table for their own sake.
func (s *sampler) first(t sampledTable) error {
	const row = "SELECT tableoid, ctid::text FROM ONLY %s "
	some := fmt.Sprintf(row+"LIMIT %d", t.Name, s.how.Most)
	if t.Rows > 4*float64(s.how.Most) { // from all over the table
		share := min(100, 100*2*float64(s.how.Most)/t.Rows)
		some = fmt.Sprintf(row+"TABLESAMPLE SYSTEM (%f) LIMIT %d", t.Name, share, s.how.Most)
	}
	fresh, err := s.take(some)
	if err != nil || len(fresh[t.OID]) < s.how.Most && t.Rows <= 4*float64(s.how.Most) {
		return err // all of them
	}
	if missing := s.how.Most - len(fresh[t.OID]); missing > 0 { // the pages that were drawn were empty
		if _, err := s.take(fmt.Sprintf(row+"LIMIT %d", t.Name, missing)); err != nil {
			return err
		}
	}
	return s.ends(t)
}

// ends chooses the rows at the ends of columns, and some without a value.
func (s *sampler) ends(t sampledTable) error {
	type column struct {
		Name  string
		Leads bool
		Nulls bool // there may be rows without a value
	}
	rows, err := s.conn.Query(s.ctx, whichEdges, t.OID)
	if err != nil {
		return err
	}
	ordered, err := pgx.CollectRows(rows, pgx.RowToStructByPos[column])
	if err != nil {
		return err
	}
	for _, c := range ordered {
		if !c.Leads && t.Rows > quicklyOrdered {
			continue
		}
		const given = "WHERE %[2]s IS NOT NULL ORDER BY %[2]s "
		ends := []string{given + "LIMIT %[3]d", given + "DESC LIMIT %[3]d"}
		if c.Nulls {
			ends = append(ends, "WHERE %[2]s IS NULL LIMIT %[3]d")
		}
		for _, end := range ends {
			if _, err := s.take(fmt.Sprintf("SELECT tableoid, ctid::text FROM ONLY %[1]s "+end, t.Name, c.Name,
				edges)); err != nil {
				return err
			}
		}
	}
	return nil
}

// reference is a foreign key.
type reference struct {
	From, To         uint32
	Child, Parent    string // with the schemas, as SQL
	Columns, Targets []string
}

const whichReferences = `SELECT c.conrelid, c.confrelid, c.conrelid::pg_catalog.regclass::text,
	c.confrelid::pg_catalog.regclass::text,
	(SELECT pg_catalog.array_agg(pg_catalog.quote_ident(a.attname) ORDER BY k.n)
	FROM pg_catalog.unnest(c.conkey) WITH ORDINALITY AS k (num, n)
		JOIN pg_catalog.pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = k.num),
	(SELECT pg_catalog.array_agg(pg_catalog.quote_ident(a.attname) ORDER BY k.n)
	FROM pg_catalog.unnest(c.confkey) WITH ORDINALITY AS k (num, n)
		JOIN pg_catalog.pg_attribute a ON a.attrelid = c.confrelid AND a.attnum = k.num)
FROM pg_catalog.pg_constraint c WHERE c.contype = 'f' AND c.conrelid = ANY ($1::oid[])`

// follow adds the rows that chosen ones refer to, and those that these refer to.
func (s *sampler) follow() error {
	var all []uint32
	for _, t := range s.tables {
		all = append(all, t.OID)
	}
	rows, err := s.conn.Query(s.ctx, whichReferences, all)
	if err != nil {
		return fmt.Errorf("look for foreign keys: %w", s.wrap(err))
	}
	references, err := pgx.CollectRows(rows, pgx.RowToStructByPos[reference])
	if err != nil {
		return fmt.Errorf("look for foreign keys: %w", s.wrap(err))
	}
	news := map[uint32][]string{}
	for table, places := range s.chosen {
		for place := range places {
			news[table] = append(news[table], place)
		}
	}
	for len(news) > 0 {
		next := map[uint32][]string{}
		for _, r := range references {
			if len(news[r.From]) == 0 {
				continue
			}
			on := make([]string, len(r.Columns))
			for i := range r.Columns {
				on[i] = "p." + r.Targets[i] + " = c." + r.Columns[i]
			}
			fresh, err := s.take(fmt.Sprintf("SELECT DISTINCT p.tableoid, p.ctid::text FROM ONLY %s c JOIN %s p ON %s WHERE "+
				"c.ctid = ANY ($1::pg_catalog.tid[])",
				r.Child, r.Parent, strings.Join(on, " AND ")), news[r.From])
			if err != nil {
				return fmt.Errorf("choose the rows of %s that %s refers to: %w", r.Parent, r.Child, s.wrap(err))
			}
			for table, places := range fresh {
				next[table] = append(next[table], places...)
			}
		}
		news = next
	}
	return nil
}
