package mariadb

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/sqltext"
	"vorrang/target/words"
)

// Session is a database of a MariaDB server as a target. Our own statements have a
// connection that lasts, and each step has one of its own, so that nothing an earlier
// one set is left.
type Session struct {
	config *mysql.Config
	own    *conn
	steps  *conn // nil before the first step
	locked bool
	within bool            // a transaction was open on steps when that was known last
	sure   bool            // within is so now
	clean  bool            // nothing that ran on steps can have left anything in it
	whole  bool            // the step runs in one transaction, which Begin opened
	lazy   bool            // that transaction begins with what runs in it first
	proved bool            // the target's lock was held when steps was asked last
	set    engine.Settings // that steps was opened with
	notice func(severity, message string)

	confined bool // its user reaches one scratch database only; roles, which might reach more, are not taken on
}

// patient are the settings by which no session ends since it has waited: it is idle while
// the other one of the two has work, in a transaction or not. In seconds; 0 is without end.
//
// Source: https://mariadb.com/kb/en/server-system-variables/
var patient = map[string]string{
	"wait_timeout":                      "2147483",
	"idle_transaction_timeout":          "0",
	"idle_readonly_transaction_timeout": "0",
	"idle_write_transaction_timeout":    "0",
}

// with are the settings of two sets.
func with(settings, more map[string]string) map[string]string {
	all := maps.Clone(settings)
	maps.Copy(all, more)
	return all
}

// own settings hold whatever the server's defaults are.
var ownSettings = with(patient, map[string]string{
	"time_zone":                "'+00:00'",
	"sql_mode":                 "'STRICT_TRANS_TABLES,NO_ENGINE_SUBSTITUTION'",
	"max_statement_time":       "0",
	"lock_wait_timeout":        "10",
	"innodb_lock_wait_timeout": "10",
	"group_concat_max_len":     "16777216",
	"autocommit":               "1",
})

// connect opens a session on the database of a URL, or on another of the same server.
func connect(ctx context.Context, url, application, database string) (*Session, error) {
	config, err := configOf(url, database)
	if err != nil {
		return nil, err
	}
	return open(ctx, config, application)
}

func open(ctx context.Context, config *mysql.Config, application string) (*Session, error) {
	config.ConnectionAttributes = "program_name:" + strings.NewReplacer(",", " ", ":", " ").Replace(application)
	own, err := dial(ctx, config, ownSettings)
	if err != nil {
		return nil, err
	}
	s := &Session{config: config, own: own}
	if err := s.admitted(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// oldest is the version from which on a change of a schema is atomic.
const oldest = 100600

// admitted refuses another product, and versions that cannot keep what is promised.
func (s *Session) admitted(ctx context.Context) error {
	version := ""
	err := s.own.each(ctx, "SELECT VERSION()", nil, func(row []string) error {
		version = row[0]
		return nil
	})
	if err != nil {
		return err
	}
	var major, minor, patch int
	_, _ = fmt.Sscanf(version, "%d.%d.%d", &major, &minor, &patch)
	if !strings.Contains(version, "MariaDB") || major*10000+minor*100+patch < oldest {
		return &engine.ConnectError{
			Kind:    engine.NotReady,
			Message: fmt.Sprintf("the server at %s is %s", s.config.Addr, version),
			Fix:     "use MariaDB 10.6 or newer, with which a change of a schema takes effect as a whole or not at all",
		}
	}
	return nil
}

// fresh gives the next step a connection that nothing is left in: a new one, unless what
// ran on the last one can have left nothing.
func (s *Session) fresh(ctx context.Context, settings engine.Settings) error {
	settings = s.bounded(settings)
	if err := s.guarded(ctx); err != nil {
		return err
	}
	if s.clean && s.set == settings && !s.within && !s.steps.lost {
		return nil
	}
	s.within, s.sure, s.clean = false, true, false
	if s.steps != nil {
		s.steps.close() // what was open in it is rolled back
		s.steps = nil
	}
	steps, err := dial(ctx, s.config, settingsOf(settings))
	if err != nil {
		return err
	}
	s.steps = steps
	// What a connection before this one had begun may still be ending.
	got, err := steps.number(ctx, "SELECT GET_LOCK(?, ?)", s.busy(), int(cancelGrace.Seconds()))
	if err == nil && got != 1 {
		err = &engine.ServerError{
			Kind:     engine.LockTimeout,
			SQLState: "1205",
			Message:  "what an earlier session of Vorrang began has not ended yet",
		}
	}
	if err == nil && settings.Role != "" {
		err = steps.exec(ctx, "SET ROLE "+quoted(settings.Role))
	}
	s.clean, s.set = err == nil, settings
	return err
}

// bounded leaves the role out of a step's settings where the session is confined.
func (s *Session) bounded(settings engine.Settings) engine.Settings {
	if s.confined {
		settings.Role = ""
	}
	return settings
}

// guarded makes sure that the target's lock is held: nothing more runs without it. Once is
// enough where the last exchange said so.
func (s *Session) guarded(ctx context.Context) error {
	if s.proved {
		s.proved = false
		return nil
	}
	return s.Alive(ctx)
}

// held is an expression that is 1 where the target's lock is held by own.
func (s *Session) held() string {
	return fmt.Sprintf("COALESCE(IS_USED_LOCK('%s') = %d, 0)", s.deploys(), s.own.id)
}

// leavesNothing reports whether a statement leaves its session as it found it: one that
// changes the schema, and runs nothing that the database holds.
func leavesNothing(statement sqltext.Statement, is shape) bool {
	w, whole := rules.Head(statement.SQL)
	return is.verb == defines && whole &&
		!slices.ContainsFunc(w.Tokens, func(t words.Token) bool { return t.Kind == words.Variable })
}

// settingsOf are the session variables of a step. Locks are waited for in whole
// seconds.
func settingsOf(s engine.Settings) map[string]string {
	wait := strconv.Itoa(int(math.Ceil(s.LockTimeout.Seconds())))
	metadata := wait
	if s.LockTimeout == 0 { // for ever
		wait, metadata = "1073741824", "31536000"
	}
	return with(patient, map[string]string{
		"lock_wait_timeout":        metadata,
		"innodb_lock_wait_timeout": wait,
		"autocommit":               "1",
		"max_statement_time":       strconv.FormatFloat(s.StatementTimeout.Seconds(), 'f', 6, 64),
	})
}

// Begin implements engine.Steps.
func (s *Session) Begin(ctx context.Context, settings engine.Settings) error {
	if err := s.fresh(ctx, settings); err != nil {
		return err
	}
	s.within, s.sure, s.lazy, s.whole = true, true, true, true
	return nil
}

// entered begins the transaction that Begin has promised.
func (s *Session) entered(ctx context.Context) error {
	if !s.lazy {
		return nil
	}
	s.lazy = false
	err := s.steps.exec(ctx, "START TRANSACTION")
	s.within, s.sure = err == nil, err == nil
	return err
}

// Prepare implements engine.Steps. Several steps in one transaction are refused before
// (the server commits after each change of a schema), so there is none to go on in.
func (s *Session) Prepare(ctx context.Context, settings engine.Settings) error {
	s.whole = false
	return s.fresh(ctx, settings)
}

// Holds implements engine.Steps. A truth is a number other than 0.
func (s *Session) Holds(ctx context.Context, statement sqltext.Statement) (bool, string, error) {
	if err := s.entered(ctx); err != nil {
		return false, "", err
	}
	s.sure = false
	return s.steps.holds(ctx, string(statement.SQL))
}

func (c *conn) holds(ctx context.Context, query string) (bool, string, error) {
	var answer engine.Answer
	err := c.each(ctx, query, nil, func(row []string) error {
		if !answer.Row() {
			return nil
		}
		for _, value := range row {
			number, err := strconv.ParseFloat(value, 64)
			answer.Value(err == nil && number != 0, cmp.Or(value, "null"))
		}
		return nil
	})
	if err != nil {
		return false, "", err
	}
	holds, got := answer.Holds()
	return holds, got, nil
}

// Rollback implements engine.Steps. What the server says it could not roll back, since
// it is in a table without transactions, is passed on.
func (s *Session) Rollback(ctx context.Context) error {
	if s.steps == nil || s.steps.lost {
		return nil
	}
	s.sure, s.lazy = false, false
	if err := s.steps.exec(ctx, "ROLLBACK"); err != nil {
		return err
	}
	return s.after(ctx)
}

// InTransaction implements engine.Steps: the server is asked, since a statement may
// have ended the transaction by itself. Where it can no longer be asked, what was so
// before is so: the next statement finds out that the connection is gone.
func (s *Session) InTransaction() bool {
	ctx, cancel := context.WithTimeout(context.Background(), cancelGrace)
	defer cancel()
	in, _ := s.inTransaction(ctx)
	return in
}

func (s *Session) inTransaction(ctx context.Context) (in bool, err error) {
	if s.sure || s.steps == nil || s.steps.lost {
		return s.within, nil
	}
	open, err := s.steps.number(ctx, "SELECT @@in_transaction")
	if err == nil {
		s.within, s.sure = open == 1, true
	}
	return s.within, err
}

// OnNotice implements engine.Steps.
func (s *Session) OnNotice(hear func(severity, message string)) { s.notice = hear }

// Closed implements engine.Session.
func (s *Session) Closed() bool { return s.own.lost || s.steps != nil && s.steps.lost }

// Close implements engine.Session.
func (s *Session) Close() {
	if s.steps != nil {
		s.steps.close()
	}
	s.own.close()
}

// Peek implements engine.Session.
func (s *Session) Peek(
	ctx context.Context, settings engine.Settings, objects []evidence.Object, check []sqltext.Statement,
) ([]evidence.Observation, []evidence.Outcome, error) {
	settings = s.bounded(settings)
	observations, err := s.own.observations(ctx, s.config.DBName, objects)
	if err != nil {
		return nil, nil, err
	}
	if len(check) == 0 {
		return observations, []evidence.Outcome{}, nil
	}
	c, err := dial(ctx, s.config, settingsOf(settings.Peeking())) // a step may be running on the other
	if err != nil {
		return nil, nil, err
	}
	defer c.close()
	if settings.Role != "" {
		if err := c.exec(ctx, "SET ROLE "+quoted(settings.Role)); err != nil {
			return nil, nil, err
		}
	}
	if err := c.exec(ctx, "START TRANSACTION READ ONLY"); err != nil {
		return nil, nil, err
	}
	outcomes, err := engine.Outcomes(
		check,
		func(query sqltext.Statement) (bool, string, error) { return c.holds(ctx, string(query.SQL)) },
	)
	return observations, outcomes, err
}

// Observations implements engine.Steps.
func (s *Session) Observations(ctx context.Context, objects []evidence.Object) ([]evidence.Observation, error) {
	return s.own.observations(ctx, s.config.DBName, objects)
}

// sights look one kind of object up; ? are the database, what it belongs to and its
// name. The server reads all tables for a condition that is no literal.
var sights = map[evidence.Kind]string{
	evidence.Table: "SELECT 1 FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND ? = '' AND TABLE_NAME = ? " +
		"AND TABLE_TYPE IN ('BASE TABLE', 'SYSTEM VERSIONED')",
	evidence.View: "SELECT 1 FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND ? = '' AND TABLE_NAME = ? " +
		"AND TABLE_TYPE = 'VIEW'",
	evidence.Sequence: "SELECT 1 FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND ? = '' AND TABLE_NAME = ? " +
		"AND TABLE_TYPE = 'SEQUENCE'",
	evidence.Column: "SELECT 1 FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND " +
		"COLUMN_NAME = ?",
	evidence.Index: "SELECT 1 FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND " +
		"INDEX_NAME = ?",
	evidence.Constraint: "SELECT 1 FROM information_schema.TABLE_CONSTRAINTS WHERE CONSTRAINT_SCHEMA = ? AND " +
		"TABLE_NAME = ? AND CONSTRAINT_NAME = ?",
	evidence.Trigger: "SELECT 1 FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ? AND ? = '' AND TRIGGER_NAME = ?",
	evidence.Routine: "SELECT 1 FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ? AND ? = '' AND ROUTINE_NAME = ?",
	evidence.Event:   "SELECT 1 FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ? AND ? = '' AND EVENT_NAME = ?",
}

func (c *conn) observations(
	ctx context.Context, database string, objects []evidence.Object,
) ([]evidence.Observation, error) {
	return engine.LookUp(objects, func(o evidence.Object) (there, invalid bool, err error) {
		err = c.each(ctx, sights[o.Kind]+" LIMIT 1", []any{database, o.Of, o.Name}, func([]string) error {
			there = true
			return nil
		})
		return there, false, err
	})
}
