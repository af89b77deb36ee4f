package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"vorrang/core/engine"
)

// logged is how far the server's log has come, in bytes.
const logged = "(pg_catalog.pg_current_wal_insert_lsn() OPERATOR(pg_catalog.-) " +
	"'0/0'::pg_catalog.pg_lsn)::pg_catalog.int8"

// held is asked over our own connection, which sees each relation as it was before the
// steps' transaction: those that it locks, with the mode and the file, and how far the
// server's log has come. It takes no lock on them, as their size would.
const held = `SELECT c.oid, pg_catalog.format('%I.%I', n.nspname, c.relname), l.mode, c.relkind IN ('i', 'I'),
		pg_catalog.pg_relation_filenode(c.oid),
		` + logged + `
	FROM pg_catalog.pg_locks l JOIN pg_catalog.pg_class c ON c.oid = l.relation
		JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
	WHERE l.pid = $1 AND l.granted AND l.locktype = 'relation' AND c.relkind IN ('r', 'p', 'm', 'i', 'I')
		AND l.database = (SELECT d.oid FROM pg_catalog.pg_database d WHERE d.datname = pg_catalog.current_database())
		AND n.nspname NOT IN ('pg_catalog', 'information_schema', 'pg_toast', 'vorrang') AND l.mode <> 'AccessShareLock'`

// did is asked in the steps' transaction: the file and the size of each relation now, and the
// rows that the transaction changed.
const did = `SELECT o.oid, coalesce(pg_catalog.pg_relation_filenode(o.oid), 0),
		coalesce(pg_catalog.pg_total_relation_size(o.oid), 0),
		pg_catalog.pg_stat_get_xact_tuples_inserted(o.oid), pg_catalog.pg_stat_get_xact_tuples_updated(o.oid),
		pg_catalog.pg_stat_get_xact_tuples_deleted(o.oid)
	FROM pg_catalog.unnest('{%s}'::pg_catalog.oid[]) AS o (oid)`

// flushes is the first version that counts a transaction's rows by themselves when asked to.
const flushes = 150000

// modes are the server's locks on tables that others wait for, from the strongest on.
// Source: the manual, 13.3.1. A lock that only stronger ones wait for blocks nothing here.
var modes = []struct {
	name   string
	blocks engine.Blocks
}{
	{"AccessExclusiveLock", engine.ReadsAndWrites},
	{"ExclusiveLock", engine.Writes}, {"ShareRowExclusiveLock", engine.Writes}, {"ShareLock", engine.Writes},
	{"ShareUpdateExclusiveLock", engine.SchemaChanges},
	{"RowExclusiveLock", engine.Nothing}, {"RowShareLock", engine.Nothing},
}

func strength(mode string) int {
	for i, m := range modes {
		if m.name == mode {
			return i
		}
	}
	return len(modes)
}

type relation struct {
	engine.TableFootprint
	oid, file uint32
	index     bool
}

// MeasureFrom implements engine.Measurer.
func (s *Session) MeasureFrom(ctx context.Context) error {
	err := s.conn.QueryRow(ctx, "SELECT "+logged).Scan(&s.written)
	if err != nil {
		return fmt.Errorf("measure the step: %w", s.wrap(err))
	}
	return nil
}

// Footprint implements engine.Measurer.
func (s *Session) Footprint(ctx context.Context) (engine.Footprint, error) {
	f := engine.Footprint{Tables: []engine.TableFootprint{}}
	found, written, err := s.held(ctx)
	if err != nil || len(found) == 0 {
		return f, err
	}
	f.WALBytes, s.written = max(0, written-s.written), written
	if err := s.did(ctx, found); err != nil {
		return f, err
	}
	for _, r := range found {
		if at := strength(r.Mode); at < len(modes) {
			r.Blocks = modes[at].blocks
		}
		changed := r.Rewritten || r.Inserted+r.Updated+r.Deleted > 0
		if changed || !r.index && r.Blocks != engine.Nothing { // else nobody notices, or by the table
			f.Tables = append(f.Tables, r.TableFootprint)
		}
	}
	slices.SortFunc(f.Tables, func(a, b engine.TableFootprint) int {
		return cmp.Or(cmp.Compare(strength(a.Mode), strength(b.Mode)), cmp.Compare(a.Table, b.Table))
	})
	return f, nil
}

// held asks for the relations that the steps' session locks, each with its strongest lock,
// and how far the server's log has come, where it locks any. A step may have locked a
// catalog that this reads: the question gives up then.
func (s *Session) held(ctx context.Context) (found map[uint32]*relation, written int64, err error) {
	found = map[uint32]*relation{}
	batch := &pgx.Batch{}
	batch.Queue("SELECT pg_catalog.set_config('lock_timeout', '500', true)")
	batch.Queue(held, int32(s.pid)).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			var one relation
			var file *uint32 // a partitioned table has none
			err := rows.Scan(&one.oid, &one.Table, &one.Mode, &one.index, &file, &written)
			if err != nil {
				return err
			}
			if file != nil {
				one.file = *file
			}
			if known, is := found[one.oid]; !is || strength(one.Mode) < strength(known.Mode) {
				found[one.oid] = &one
			}
		}
		return rows.Err()
	})
	if err := s.conn.SendBatch(ctx, batch).Close(); err != nil {
		return nil, 0, fmt.Errorf("measure the step: %w", s.wrap(err))
	}
	return found, written, nil
}

// did asks the steps' transaction what became of some relations, in one message. A savepoint
// keeps it as it was, whatever comes of the question.
func (s *Session) did(ctx context.Context, found map[uint32]*relation) error {
	var oids []string
	for oid := range found {
		oids = append(oids, strconv.FormatUint(uint64(oid), 10))
	}
	query := fmt.Sprintf(did, strings.Join(oids, ","))
	if s.version >= flushes { // else the next step would be told of the rows of this one
		query += ", pg_catalog.pg_stat_force_next_flush() AS flushed"
	}
	reader := s.steps.PgConn().Exec(ctx, "SAVEPOINT vorrang_footprint; "+query+"; RELEASE vorrang_footprint")
	for reader.NextResult() {
		for rows := reader.ResultReader(); rows.NextRow(); {
			if err := s.tell(found, rows.Values()); err != nil {
				return errors.Join(err, reader.Close())
			}
		}
	}
	if err := reader.Close(); err != nil {
		// if this fails too, the transaction is lost, and says so
		_ = s.step(ctx, "ROLLBACK TO vorrang_footprint; RELEASE vorrang_footprint")
		return fmt.Errorf("measure the step: %w", wrap(s.steps, err))
	}
	return nil
}

// tell puts a row of did to its relation: oid, file, bytes, rows inserted, updated and
// deleted.
func (s *Session) tell(found map[uint32]*relation, row [][]byte) error {
	numbers := make([]int64, len(row))
	for i, value := range row[:min(len(row), 6)] {
		var err error
		if numbers[i], err = strconv.ParseInt(string(value), 10, 64); err != nil {
			return fmt.Errorf("measure the step: %w", err)
		}
	}
	r := found[uint32(numbers[0])]
	r.Rewritten = r.file != 0 && numbers[1] != 0 && int64(r.file) != numbers[1]
	r.Bytes = numbers[2]
	if s.version >= flushes {
		r.Inserted, r.Updated, r.Deleted = numbers[3], numbers[4], numbers[5]
	}
	return nil
}

// surveyed gives where each relation of the application is. Sizes are those of the last
// look of the server's, so that no lock is taken for them.
const surveyed = `SELECT pg_catalog.format('%I.%I', n.nspname, c.relname), c.oid,
	coalesce(pg_catalog.pg_relation_filenode(c.oid), 0),
		greatest(c.relpages, 0)::pg_catalog.int8 * pg_catalog.current_setting('block_size')::pg_catalog.int8
	FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
	WHERE c.relkind IN ('r', 'm', 'i') AND c.relpersistence <> 't'
		AND n.nspname NOT IN ('pg_catalog', 'information_schema', 'pg_toast', 'vorrang')`

// Survey implements engine.Surveyor.
func (s *Session) Survey(ctx context.Context) (engine.Survey, error) {
	seen := engine.Survey{Relations: map[string]engine.Surveyed{}}
	rows, err := s.conn.Query(ctx, surveyed)
	if err == nil {
		var name string
		var one engine.Surveyed
		_, err = pgx.ForEachRow(rows, []any{&name, &one.ID, &one.File, &one.Bytes}, func() error {
			seen.Relations[name] = one
			return nil
		})
	}
	if err == nil {
		err = s.conn.QueryRow(ctx, "SELECT "+logged).Scan(&seen.Written)
	}
	if err != nil {
		return seen, fmt.Errorf("look where the tables are: %w", s.wrap(err))
	}
	return seen, nil
}
