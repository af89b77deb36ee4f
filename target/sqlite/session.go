package sqlite

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"os"
	"strings"
	"syscall"

	sqlite3 "github.com/mattn/go-sqlite3"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/sqltext"
)

// Session is an SQLite file as a target. Our own statements have a connection, and
// each step has one of its own, so that nothing an earlier one set is left.
type Session struct {
	at          target
	application string
	own         *conn
	steps       *conn // nil before the first step
	lock        *os.File
	gone        bool // the file is another
	notice      func(severity, message string)
}

// open opens the connection for our own statements.
func open(ctx context.Context, at target, application string) (*Session, error) {
	own, err := dial(at.path)
	if err != nil {
		return nil, at.diagnose(err)
	}
	own.guard.ours = true
	s := &Session{at: at, application: application, own: own}
	if err = own.patience(ctx, connectPatience); err == nil {
		err = own.query(
			ctx,
			`SELECT count(*) FROM main.sqlite_schema`,
			nil, nil,
		) // which reads the file's head and its schema
	}
	if err != nil {
		s.Close()
		return nil, at.diagnose(err)
	}
	return s, nil
}

// fresh gives the next step a connection that nothing is left in. The file must be
// the one that the session began with.
func (s *Session) fresh(ctx context.Context, settings engine.Settings) error {
	if err := s.Alive(ctx); err != nil {
		return err
	}
	if s.steps != nil {
		_ = s.steps.Close() // what was open in it is rolled back
		s.steps = nil
	}
	steps, err := dial(s.at.path)
	if err != nil {
		return s.at.diagnose(err)
	}
	s.steps = steps
	if s.at.foreignKeys {
		if err := steps.ours(func() error { return steps.exec(ctx, "PRAGMA foreign_keys = ON") }); err != nil {
			return err
		}
	}
	return s.settle(ctx, settings)
}

func (s *Session) settle(ctx context.Context, settings engine.Settings) error {
	s.steps.timeout = settings.StatementTimeout
	return s.steps.patience(ctx, settings.LockTimeout)
}

// Begin implements engine.Steps. The transaction holds the file's one lock for
// writing from its beginning.
func (s *Session) Begin(ctx context.Context, settings engine.Settings) error {
	if err := s.fresh(ctx, settings); err != nil {
		return err
	}
	return s.steps.ours(func() error { return s.steps.exec(ctx, "BEGIN IMMEDIATE") })
}

// Prepare implements engine.Steps.
func (s *Session) Prepare(ctx context.Context, settings engine.Settings) error {
	if !s.InTransaction() {
		if err := s.fresh(ctx, settings); err != nil {
			return err
		}
		s.steps.controls = true
		return nil
	}
	return errors.Join(s.forget(ctx), s.settle(ctx, settings))
}

// forget takes away what a step left in its connection, where the next one has to
// run in the same transaction.
func (s *Session) forget(ctx context.Context) error {
	return s.steps.ours(func() error {
		var drops []string
		err := s.steps.query(
			ctx,
			`SELECT type, name FROM temp.sqlite_schema WHERE type IN ('table', 'view', 'trigger')
				AND name NOT LIKE 'sqlite\_%' ESCAPE '\' ORDER BY type DESC`,
			nil,
			func(row []driver.Value) error {
				drops = append(drops, fmt.Sprintf("DROP %s IF EXISTS temp.%s", str(row[0]), identifier(str(row[1]))))
				return nil
			},
		)
		if err != nil {
			return err
		}
		drops = append(
			drops,
			"PRAGMA defer_foreign_keys = OFF",
			"PRAGMA recursive_triggers = OFF",
			"PRAGMA legacy_alter_table = OFF",
			"PRAGMA reverse_unordered_selects = OFF",
			"PRAGMA automatic_index = ON",
			"PRAGMA ignore_check_constraints = OFF",
		)
		return s.steps.exec(ctx, strings.Join(drops, "; "))
	})
}

// Exec implements engine.Steps.
func (s *Session) Exec(ctx context.Context, statement sqltext.Statement) (int64, error) {
	text := string(statement.SQL)
	switch is := shapeOf(statement); {
	case is.verb == changes:
		return s.steps.single(ctx, text, nil)
	case is.verb == drops && is.kind == evidence.Table:
		return 0, s.dropping(ctx, is.name, func() error {
			_, err := s.steps.single(ctx, text, nil)
			return err
		})
	case is.verb == vacuums:
		return 0, s.steps.vacuum(func() error {
			_, err := s.steps.single(ctx, text, nil)
			return err
		})
	}
	_, err := s.steps.single(ctx, text, func([]driver.Value) error { return nil })
	return 0, err
}

// Holds implements engine.Steps. SQLite has no boolean: a number other than 0 is
// true.
func (s *Session) Holds(ctx context.Context, statement sqltext.Statement) (bool, string, error) {
	var answer engine.Answer
	_, err := s.steps.single(ctx, string(statement.SQL), func(row []driver.Value) error {
		if answer.Row() {
			for _, v := range row {
				answer.Value(shown(v))
			}
		}
		return nil
	})
	if err != nil {
		return false, "", err
	}
	holds, got := answer.Holds()
	return holds, got, nil
}

func shown(v driver.Value) (yes bool, word string) {
	word = str(v)
	switch v := v.(type) {
	case nil:
		word = "null"
	case bool:
		yes = v
	case int64:
		yes = v != 0
	case float64:
		yes = v != 0
	}
	return yes, word
}

// Rollback implements engine.Steps.
func (s *Session) Rollback(context.Context) error {
	if s.steps == nil {
		return nil
	}
	return s.steps.rollback()
}

// InTransaction implements engine.Steps.
func (s *Session) InTransaction() bool { return s.steps != nil && !s.steps.AutoCommit() }

// OnNotice implements engine.Steps: SQLite has no notices, but what goes along with a table is told.
func (s *Session) OnNotice(hear func(severity, message string)) { s.notice = hear }

// Closed implements engine.Session.
func (s *Session) Closed() bool { return s.gone }

// Close implements engine.Session.
func (s *Session) Close() {
	for _, c := range []*conn{s.steps, s.own} {
		if c != nil {
			_ = c.Close() // what was open is rolled back
		}
	}
	s.Unlock()
}

// Identity implements engine.Session.
func (s *Session) Identity(context.Context) (string, error) {
	stat, is := s.at.file.Sys().(*syscall.Stat_t)
	if !is {
		return "sqlite " + s.at.path, nil
	}
	return fmt.Sprintf("sqlite %d %d", stat.Dev, stat.Ino), nil
}

// HasTables implements engine.Session. The one schema is main.
func (s *Session) HasTables(ctx context.Context, tables ...string) (bool, error) {
	for _, table := range tables {
		schema, name, _ := strings.Cut(table, ".")
		if schema != "main" {
			return false, nil
		}
		if has, err := s.own.has(ctx, name); err != nil || !has {
			return false, err
		}
	}
	return true, nil
}

// Schemas implements engine.Session: there are none.
func (s *Session) Schemas([]string) {}

// application's objects: SQLite's own begin with sqlite_, and the ledger is ours.
const applications = ` name NOT LIKE 'sqlite\_%' ESCAPE '\' AND tbl_name <> 'vorrang_ledger' COLLATE NOCASE`

// Existing implements engine.Session.
func (s *Session) Existing(ctx context.Context, _ []string) (engine.Existing, error) {
	var e engine.Existing
	err := s.own.query(
		ctx,
		`SELECT type, count(*) FROM main.sqlite_schema WHERE type IN ('table', 'view') AND`+applications+` GROUP BY type`,
		nil,
		func(row []driver.Value) error {
			n, _ := row[1].(int64)
			if str(row[0]) == "table" {
				e.Tables = int(n)
			} else {
				e.Others = int(n)
			}
			return nil
		},
	)
	return e, err
}

// Empty implements engine.Steps. Rows go first, so that no foreign key is broken by
// the order of the tables.
func (s *Session) Empty(ctx context.Context) (int, error) {
	var drops, empties []string
	err := s.steps.ours(func() error {
		err := s.steps.query(
			ctx,
			`SELECT type, name, sql FROM main.sqlite_schema WHERE type IN ('trigger', 'view', 'table') AND`+applications+`
			AND name NOT IN (SELECT name FROM pragma_table_list WHERE schema = 'main' AND type = 'shadow')
				ORDER BY type DESC, sql LIKE 'CREATE VIRTUAL%' DESC`,
			nil,
			func(row []driver.Value) error {
				name := "main." + identifier(str(row[1]))
				drops = append(drops, fmt.Sprintf("DROP %s IF EXISTS %s", str(row[0]), name))
				if str(row[0]) == "table" && !strings.HasPrefix(strings.ToUpper(str(row[2])), "CREATE VIRTUAL") {
					empties = append(empties, "DELETE FROM "+name)
				}
				return nil
			},
		)
		if err != nil {
			return err
		}
		triggers := 0 // which would fire on the rows that go
		for triggers < len(drops) && strings.HasPrefix(drops[triggers], "DROP view") || triggers < len(drops) &&
			strings.HasPrefix(drops[triggers], "DROP trigger") {
			triggers++
		}
		all := append([]string{"PRAGMA defer_foreign_keys = ON"}, drops[:triggers]...)
		all = append(append(all, empties...), drops[triggers:]...)
		return s.steps.exec(ctx, strings.Join(all, "; "))
	})
	return len(drops), err
}

// Probe implements engine.Session.
func (s *Session) Probe(ctx context.Context, _ string) (engine.Probe, error) {
	p := engine.Probe{Database: s.at.path}
	p.Version, _, _ = sqlite3.Version()
	var err error
	if p.HasLedger, err = s.own.has(ctx, ledgerTable); err != nil {
		return p, err
	}
	p.Look("connection", true, "the file "+s.at.path+" is an SQLite database", "")
	writable := s.at.writable()
	word := "the file and its folder may be written to"
	if !writable {
		word = "the file or its folder may not be written to"
	}
	p.Look("writable", writable, word, hints[sqlite3.ErrReadonly])
	keys := "off: SQLite does not hold them while a step runs; what a step leaves is checked at its end"
	if s.at.foreignKeys {
		keys = "on: SQLite holds them while a step runs, and what a step leaves is checked at its end"
	}
	p.Look("foreign keys", true, keys, "")
	journal := ""
	err = s.own.query(ctx, "PRAGMA main.journal_mode", nil, func(row []driver.Value) error {
		journal = str(row[0])
		return nil
	})
	safe := journal != "off" && journal != "memory"
	p.Look(
		"journal", safe,
		"the file's journal mode is "+journal,
		"PRAGMA journal_mode = DELETE or WAL: without a journal on disk a crash damages the file",
	)
	if p.HasLedger {
		p.Look("ledger", true, "is there", "")
	} else {
		p.Look("ledger", writable, "is not there yet", hints[sqlite3.ErrReadonly])
	}
	return p, err
}

// Peek implements engine.Session.
func (s *Session) Peek(
	ctx context.Context, settings engine.Settings, objects []evidence.Object, check []sqltext.Statement,
) ([]evidence.Observation, []evidence.Outcome, error) {
	if err := s.fresh(ctx, settings.Peeking()); err != nil {
		return nil, nil, err
	}
	if err := s.steps.ours(func() error { return s.steps.exec(ctx, "PRAGMA query_only = ON; BEGIN") }); err != nil {
		return nil, nil, err
	}
	defer func() { _ = s.steps.rollback() }() // nothing was written
	observations, err := s.steps.observations(ctx, objects)
	if err != nil {
		return nil, nil, err
	}
	outcomes, err := engine.Outcomes(
		check,
		func(query sqltext.Statement) (bool, string, error) { return s.Holds(ctx, query) },
	)
	return observations, outcomes, err
}

// Observations implements engine.Steps.
func (s *Session) Observations(ctx context.Context, objects []evidence.Object) ([]evidence.Observation, error) {
	return s.own.observations(ctx, objects)
}

func (c *conn) observations(ctx context.Context, objects []evidence.Object) ([]evidence.Observation, error) {
	return engine.LookUp(objects, func(o evidence.Object) (there, invalid bool, err error) {
		find, args := `SELECT 1 FROM main.sqlite_schema WHERE type = ? AND name = ? COLLATE NOCASE`, []any{
			string(o.Kind), o.Name,
		}
		if o.Kind == evidence.Column {
			find, args = `SELECT 1 FROM pragma_table_xinfo(?) WHERE name = ? COLLATE NOCASE`, []any{o.Of, o.Name}
		}
		err = c.query(ctx, find, args, func([]driver.Value) error {
			there = true
			return nil
		})
		return there, false, err
	})
}
