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

// did is asked in the steps' transaction, whose search path may be anybody's: each relation
// that it locks, with the mode, its name and its file now, whether this transaction made it,
// and the rows that it changed; and each time how far the server's log has come. What made a
// table is the transaction of its column ctid, which no statement changes; of an index it is
// the one that changed its entry last. Catalogs have numbers below 16384
// (FirstNormalObjectId), and 99 is the schema pg_toast.
const did = `SELECT l.relation, l.mode, c.relname, coalesce(pg_catalog.pg_relation_filenode(c.oid), 0),
		coalesce(coalesce((SELECT a.xmin FROM pg_catalog.pg_attribute AS a
			WHERE a.attrelid OPERATOR(pg_catalog.=) c.oid AND a.attnum OPERATOR(pg_catalog.=) -1::pg_catalog.int2),
			c.xmin)::pg_catalog.text OPERATOR(pg_catalog.=)
			(pg_catalog.txid_current_if_assigned() OPERATOR(pg_catalog.%) 4294967296)::pg_catalog.text, false),
		pg_catalog.pg_stat_get_xact_tuples_inserted(c.oid), pg_catalog.pg_stat_get_xact_tuples_updated(c.oid),
		pg_catalog.pg_stat_get_xact_tuples_deleted(c.oid), ` + logged + `
	FROM pg_catalog.pg_lock_status() AS l
		JOIN pg_catalog.pg_class AS c ON c.oid OPERATOR(pg_catalog.=) l.relation
	WHERE l.pid OPERATOR(pg_catalog.=) pg_catalog.pg_backend_pid() AND l.granted
		AND l.locktype OPERATOR(pg_catalog.=) 'relation' AND l.mode OPERATOR(pg_catalog.<>) 'AccessShareLock'
		AND c.oid OPERATOR(pg_catalog.>=) 16384::pg_catalog.oid
		AND c.relkind OPERATOR(pg_catalog.=) ANY ('{r,p,m,i,I}'::pg_catalog."char"[])
		AND c.relnamespace OPERATOR(pg_catalog.<>) 99::pg_catalog.oid`

// sizes is asked in the steps' transaction.
const sizes = `SELECT o.oid, coalesce(pg_catalog.pg_total_relation_size(o.oid), 0)
	FROM pg_catalog.unnest('{%s}'::pg_catalog.oid[]) AS o (oid)`

// stood is asked over our own connection, which sees each relation as it was before the
// steps' transaction. It takes no lock on them.
const stood = `SELECT c.oid, pg_catalog.format('%I.%I', n.nspname, c.relname), c.relname::text,
		c.relkind IN ('i', 'I'), n.nspname = 'vorrang', coalesce(pg_catalog.pg_relation_filenode(c.oid), 0)
	FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
	WHERE c.oid = ANY ($1::pg_catalog.oid[])`

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

// relation is one that the steps' transaction locks.
type relation struct {
	mode                       string
	name                       string // without its schema
	file                       uint32
	made                       bool // in this transaction, as far as that can be told by itself
	inserted, updated, deleted int64
}

// standing is a relation as it was before a transaction.
type standing struct {
	full, name string // with its schema, as SQL writes it; and without
	index      bool
	ours       bool // the ledger, and what belongs to it
	file       uint32
	asked      int   // in which transaction it was asked for
	bytes      int64 // of the last time that it was asked for; 0 if it was not
}

// measured is what a session knows of relations, so that a step that touches what earlier
// ones touched needs no question to our own connection.
type measured struct {
	written  int64 // how far the server's log had come when it was last measured, in bytes
	newest   uint32
	standing map[uint32]*standing
	made     map[uint32]int // what steps made, and in which transaction
}

func newMeasured() measured {
	return measured{standing: map[uint32]*standing{}, made: map[uint32]int{}}
}

// MeasureFrom implements engine.Measurer.
func (s *Session) MeasureFrom(ctx context.Context) error {
	s.measured = newMeasured()
	err := s.conn.QueryRow(ctx, "SELECT "+logged+", (SELECT pg_catalog.max(oid) FROM pg_catalog.pg_class)").
		Scan(&s.measured.written, &s.measured.newest)
	if err != nil {
		return fmt.Errorf("measure the step: %w", s.wrap(err))
	}
	return nil
}

// Footprint implements engine.Measurer.
func (s *Session) Footprint(ctx context.Context) (engine.Footprint, error) {
	f := engine.Footprint{Tables: []engine.TableFootprint{}}
	found, written, err := s.did(ctx)
	if err != nil || written == 0 {
		return f, err
	}
	if s.measured.standing == nil { // nobody said where it begins
		s.measured = newMeasured()
		s.measured.written = written
	}
	f.WALBytes, s.measured.written = max(0, written-s.measured.written), written
	if err := s.stood(ctx, found); err != nil {
		return f, err
	}
	at := map[uint32]int{}
	var unsized []uint32
	for oid, r := range found {
		was := s.measured.standing[oid]
		t := engine.TableFootprint{
			Table: was.full, Mode: r.mode, Rewritten: was.file != 0 && r.file != 0 && was.file != r.file,
			Inserted: r.inserted, Updated: r.updated, Deleted: r.deleted,
		}
		if place := strength(r.mode); place < len(modes) {
			t.Blocks = modes[place].blocks
		}
		changed := t.Inserted + t.Updated + t.Deleted
		if !t.Rewritten && changed == 0 && (was.index || t.Blocks == engine.Nothing) { // nobody notices, or by the table
			continue
		}
		if was.bytes == 0 || t.Rewritten || changed > fewRows {
			unsized = append(unsized, oid)
		}
		at[oid] = len(f.Tables)
		f.Tables = append(f.Tables, t)
	}
	if err := s.sizes(ctx, unsized); err != nil {
		return f, err
	}
	for oid, i := range at {
		f.Tables[i].Bytes = s.measured.standing[oid].bytes
	}
	slices.SortFunc(f.Tables, func(a, b engine.TableFootprint) int {
		return cmp.Or(cmp.Compare(strength(a.Mode), strength(b.Mode)), cmp.Compare(a.Table, b.Table))
	})
	return f, nil
}

// fewRows do not change a table's size by much.
const fewRows = 1000

// did asks the steps' transaction what it holds and what became of it: by relation, the
// strongest lock; and how far the server's log has come, which is 0 where it holds nothing.
func (s *Session) did(ctx context.Context) (found map[uint32]relation, written int64, err error) {
	query := did
	if s.version >= flushes { // else the next step would be told of the rows of this one
		query += "; SELECT pg_catalog.pg_stat_force_next_flush()"
	}
	found = map[uint32]relation{}
	err = s.inside(ctx, query, func(row [][]byte) error {
		if len(row) == 1 { // of the flush
			return nil
		}
		numbers, err := numbersOf(row, 0, 3, 5, 6, 7, 8)
		if err != nil {
			return err
		}
		oid := uint32(numbers[0])
		one := relation{
			mode: string(row[1]), name: string(row[2]), file: uint32(numbers[1]), made: string(row[4]) == "t",
		}
		if s.version >= flushes {
			one.inserted, one.updated, one.deleted = numbers[2], numbers[3], numbers[4]
		}
		if known, is := found[oid]; !is || strength(one.mode) < strength(known.mode) {
			found[oid] = one
		}
		written = numbers[5]
		return nil
	})
	return found, written, err
}

// stood completes what is known of how the relations were before the transaction, and takes
// those out of found that were not there, or are the ledger's.
func (s *Session) stood(ctx context.Context, found map[uint32]relation) error {
	known := &s.measured
	var ask []uint32
	for oid, r := range found {
		was, is := known.standing[oid]
		switch {
		case known.made[oid] == s.begun,
			r.made && known.made[oid] == 0 && known.newest != 0 && oid > known.newest:
			known.made[oid] = s.begun
			delete(found, oid)
		// another file or name may be another session's doing, since it was asked for
		case !is, was.asked != s.begun && (was.file != r.file || was.name != r.name):
			ask = append(ask, oid)
		}
	}
	if len(ask) > 0 {
		if err := s.ask(ctx, ask); err != nil {
			return err
		}
		for _, oid := range ask {
			if was := known.standing[oid]; was == nil || was.asked != s.begun {
				known.made[oid] = s.begun
				delete(known.standing, oid)
				delete(found, oid)
			}
		}
	}
	for oid := range found {
		if known.standing[oid].ours {
			delete(found, oid)
		}
	}
	return nil
}

// ask asks our own connection for relations as they are before the transaction. A step may
// have locked a catalog that this reads: the question gives up then.
func (s *Session) ask(ctx context.Context, oids []uint32) error {
	batch := &pgx.Batch{}
	batch.Queue("SELECT pg_catalog.set_config('lock_timeout', '500', true)")
	batch.Queue(stood, oids).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			one := standing{asked: s.begun}
			var oid uint32
			if err := rows.Scan(&oid, &one.full, &one.name, &one.index, &one.ours, &one.file); err != nil {
				return err
			}
			if before := s.measured.standing[oid]; before != nil {
				one.bytes = before.bytes
			}
			s.measured.standing[oid] = &one
		}
		return rows.Err()
	})
	if err := s.conn.SendBatch(ctx, batch).Close(); err != nil {
		return fmt.Errorf("measure the step: %w", s.wrap(err))
	}
	return nil
}

// sizes asks the steps' transaction how large relations are, with their indexes.
func (s *Session) sizes(ctx context.Context, oids []uint32) error {
	if len(oids) == 0 {
		return nil
	}
	texts := make([]string, len(oids))
	for i, oid := range oids {
		texts[i] = strconv.FormatUint(uint64(oid), 10)
	}
	return s.inside(ctx, fmt.Sprintf(sizes, strings.Join(texts, ",")), func(row [][]byte) error {
		numbers, err := numbersOf(row, 0, 1)
		if err == nil {
			s.measured.standing[uint32(numbers[0])].bytes = numbers[1]
		}
		return err
	})
}

// inside asks the steps' transaction, in one message. A savepoint keeps it as it was,
// whatever comes of the question.
func (s *Session) inside(ctx context.Context, query string, tell func(row [][]byte) error) error {
	reader := s.steps.PgConn().Exec(ctx, "SAVEPOINT vorrang_footprint; "+query+"; RELEASE vorrang_footprint")
	for reader.NextResult() {
		for rows := reader.ResultReader(); rows.NextRow(); {
			if err := tell(rows.Values()); err != nil {
				return errors.Join(fmt.Errorf("measure the step: %w", err), reader.Close())
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

// numbersOf reads columns of a row.
func numbersOf(row [][]byte, columns ...int) ([]int64, error) {
	numbers := make([]int64, len(columns))
	for i, column := range columns {
		var err error
		if numbers[i], err = strconv.ParseInt(string(row[column]), 10, 64); err != nil {
			return nil, err
		}
	}
	return numbers, nil
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
