package postgres

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"vorrang/core/engine"
	"vorrang/core/sqltext"
)

// clean undoes whatever an earlier script may have left in the steps' session:
// settings, roles, prepared statements, cursors, notifications, advisory locks,
// temporary objects, sequences' values. It is DISCARD ALL in a form that can
// stand inside a transaction. The settings that hold for every step follow at once,
// so that no time limit of the database's own ends what comes after them.
func (s *Session) clean() string {
	return "CLOSE ALL; RESET SESSION AUTHORIZATION; RESET ALL; " + s.steady() + "; DEALLOCATE ALL; UNLISTEN *; " +
		"DISCARD PLANS; DISCARD SEQUENCES; DISCARD TEMP; SELECT pg_catalog.pg_advisory_unlock_all()"
}

// steady puts what holds for every step into force, whatever the database says. Steps
// are cut by the standard's rules for strings, so the server reads them by these too.
// How long a statement may take, the step's own settings say; and the session may be
// idle while a ledger row is written or a check is asked over the other connection.
func (s *Session) steady() string {
	sql := "SET standard_conforming_strings = on" // SET costs a fifth of what set_config does; every step pays for it
	for _, limit := range s.limits() {
		sql += "; SET " + limit + " = 0"
	}
	return sql
}

// limits are the settings by which a server ends a statement, a transaction or a
// session that takes long.
//
// Source: https://www.postgresql.org/docs/current/runtime-config-client.html
func (s *Session) limits() []string {
	limits := []string{"statement_timeout", "idle_in_transaction_session_timeout"}
	if s.version >= 140000 {
		limits = append(limits, "idle_session_timeout")
	}
	if s.version >= 170000 {
		limits = append(limits, "transaction_timeout")
	}
	return limits
}

// cleaned opens the steps' session, and runs SQL on it that begins a step. Where an
// earlier one used it, it is cleaned first, in the same round trip. BEGIN makes what
// was sent so far a transaction, and COMMIT ends it, so that the next one begins
// with the defaults that are right.
//
// Source: https://www.postgresql.org/docs/18/protocol-flow.html#PROTOCOL-FLOW-MULTI-STATEMENT
func (s *Session) cleaned(ctx context.Context, begin string) error {
	if err := s.open(ctx); err != nil {
		return err
	}
	switch {
	case s.dirty && s.InTransaction():
		begin = s.clean() + "; " + begin
	case s.dirty:
		begin = s.again() + begin
	}
	s.dirty = true // from here on
	return s.step(ctx, begin)
}

// again cleans the session outside of a transaction.
func (s *Session) again() string { return s.clean() + "; BEGIN; COMMIT; " }

// Begin implements engine.Steps. The transaction holds a lock of its own, which
// no statement can give back before its end: should the session that holds the
// target's lock go, nobody else begins before this transaction has ended.
func (s *Session) Begin(ctx context.Context, settings engine.Settings) error {
	s.begun++
	s.whole = true
	if s.ahead != nil && *s.ahead == settings {
		s.ahead = nil
		return nil
	}
	if err := s.unexpected(ctx); err != nil {
		return err
	}
	return s.cleaned(ctx, s.begin(settings))
}

func (s *Session) begin(settings engine.Settings) string {
	return fmt.Sprintf("BEGIN; %s; SELECT pg_catalog.pg_advisory_xact_lock(%d)", s.set(settings, true), busyKey)
}

// Expect implements engine.Expecter.
func (s *Session) Expect(next engine.Settings) { s.expected = &next }

// unexpected ends a transaction that was begun for a Begin that did not come.
func (s *Session) unexpected(ctx context.Context) error {
	s.expected = nil
	if s.ahead == nil {
		return nil
	}
	s.ahead = nil
	return s.step(ctx, "ROLLBACK")
}

// Prepare implements engine.Steps.
func (s *Session) Prepare(ctx context.Context, settings engine.Settings) error {
	if err := s.unexpected(ctx); err != nil {
		return err
	}
	s.whole = s.InTransaction()
	return s.cleaned(ctx, s.set(settings, s.whole))
}

// set puts settings into force, for the transaction only where local is true.
func (s *Session) set(settings engine.Settings, local bool) string {
	set := "SET SESSION "
	if local {
		set = "SET LOCAL "
	}
	sql := []string{
		fmt.Sprintf("%slock_timeout = %d", set, engine.Milliseconds(settings.LockTimeout)),
		fmt.Sprintf("%sstatement_timeout = %d", set, engine.Milliseconds(settings.StatementTimeout)),
	}
	if s.version >= 140000 {
		// The server looks every 2 s whether the service is still there, so that
		// a statement does not outlive a killed service.
		sql = append(sql, set+"client_connection_check_interval = 2000")
	}
	if settings.Role != "" {
		sql = append(sql, set+"role = "+sqltext.Literal(settings.Role))
	}
	return strings.Join(sql, "; ")
}

// ledgerSchema is out of the application's way.
const ledgerSchema = "vorrang"

// Exec implements engine.Steps.
func (s *Session) Exec(ctx context.Context, statement sqltext.Statement) (int64, error) {
	if statement.IsCopy {
		if err := s.hold(ctx); err != nil {
			return 0, err
		}
		tag, err := s.steps.PgConn().CopyFrom(ctx, bytes.NewReader(statement.CopyData), string(statement.SQL))
		return tag.RowsAffected(), wrap(s.steps, err)
	}
	if err := s.hold(ctx); err != nil {
		return 0, err
	}
	// The extended protocol takes one statement only.
	// Source: https://www.postgresql.org/docs/current/protocol-flow.html#PROTOCOL-FLOW-EXT-QUERY
	tag, err := s.steps.PgConn().ExecParams(ctx, string(statement.SQL), nil, nil, nil, nil).Close()
	if err != nil {
		return 0, wrap(s.steps, err)
	}
	if s.whole && s.InTransaction() {
		err = s.unended(ctx, tag.String())
	}
	return tag.RowsAffected(), err
}

// hold puts the settings back by which the server reads a text, where a step changed them. The
// server reports each change of theirs.
func (s *Session) hold(ctx context.Context) error {
	on := s.steps.PgConn()
	if on.ParameterStatus("standard_conforming_strings") == "on" && on.ParameterStatus("client_encoding") == "UTF8" ||
		on.TxStatus() == 'E' {
		return nil
	}
	return s.step(ctx, "SET standard_conforming_strings = on; SET client_encoding = 'UTF8'")
}

// unended makes sure that the transaction which is open is the one that Begin opened, after a
// statement with such a tag: COMMIT AND CHAIN and ROLLBACK AND CHAIN open another. The lock
// that Begin takes ends with its transaction.
func (s *Session) unended(ctx context.Context, tag string) error {
	held := tag != "COMMIT"
	if tag == "ROLLBACK" { // which ROLLBACK TO SAVEPOINT says too
		err := s.steps.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_catalog.pg_locks WHERE locktype = 'advisory'
			AND pid = pg_catalog.pg_backend_pid() AND granted AND objsubid = 1
			AND (classid::pg_catalog.int8 << 32) | objid::pg_catalog.int8 = $1)`,
			busyKey).Scan(&held)
		if err != nil {
			return wrap(s.steps, err)
		}
	}
	if !held {
		return &engine.EndedError{}
	}
	return nil
}

// Estimate implements engine.Estimator. Source of the form: EXPLAIN's JSON, where
// the node that changes rows stands above the one that finds them.
func (s *Session) Estimate(ctx context.Context, statement sqltext.Statement) (int64, error) {
	var plans []struct{ Plan explained }
	var text []byte
	if err := s.hold(ctx); err != nil {
		return 0, err
	}
	reader := s.steps.PgConn().ExecParams(ctx, "EXPLAIN (FORMAT json) "+string(statement.SQL), nil, nil, nil, nil)
	for reader.NextRow() {
		text = append(text, reader.Values()[0]...)
	}
	if _, err := reader.Close(); err != nil {
		return 0, wrap(s.steps, err)
	}
	if err := json.Unmarshal(text, &plans); err != nil || len(plans) == 0 {
		return 0, fmt.Errorf("read the planner's answer: %w", err)
	}
	return plans[0].Plan.changed(), nil
}

// explained is a node of EXPLAIN's answer.
type explained struct {
	Node  string      `json:"Node Type"`
	Rows  float64     `json:"Plan Rows"`
	Plans []explained `json:"Plans"`
}

// changed is how many rows reach the node that changes them.
func (e explained) changed() int64 {
	if e.Node == "ModifyTable" && len(e.Plans) > 0 {
		return int64(e.Plans[0].Rows)
	}
	for _, below := range e.Plans {
		if rows := below.changed(); rows > 0 {
			return rows
		}
	}
	return 0
}

// exec runs our own statements on our own connection.
func (s *Session) exec(ctx context.Context, sql string) error {
	return s.wrap(s.conn.PgConn().Exec(ctx, sql).Close())
}

// step runs our own statements on the steps' connection.
func (s *Session) step(ctx context.Context, sql string) error {
	return wrap(s.steps, s.steps.PgConn().Exec(ctx, sql).Close())
}

// Holds implements engine.Steps.
func (s *Session) Holds(ctx context.Context, query sqltext.Statement) (bool, string, error) {
	if err := s.hold(ctx); err != nil {
		return false, "", err
	}
	reader := s.steps.PgConn().ExecParams(ctx, string(query.SQL), nil, nil, nil, nil)
	var answer engine.Answer
	for reader.NextRow() {
		if !answer.Row() {
			continue
		}
		for _, value := range reader.Values() {
			answer.Value(string(value) == "t", shown(value))
		}
	}
	if _, err := reader.Close(); err != nil {
		return false, "", wrap(s.steps, err)
	}
	holds, got := answer.Holds()
	return holds, got, nil
}

func shown(value []byte) string {
	switch {
	case value == nil:
		return "null"
	case string(value) == "t":
		return "true"
	case string(value) == "f":
		return "false"
	}
	return string(value)
}

// Rollback implements engine.Steps.
func (s *Session) Rollback(ctx context.Context) error {
	if err := s.unexpected(ctx); err != nil {
		return err
	}
	if !s.InTransaction() {
		return nil
	}
	return s.step(ctx, "ROLLBACK")
}

// InTransaction implements engine.Steps. A transaction in which nothing was begun yet counts
// as none.
func (s *Session) InTransaction() bool {
	return s.ahead == nil && s.steps != nil && !s.steps.IsClosed() && s.steps.PgConn().TxStatus() != 'I'
}

// OnNotice implements engine.Steps.
func (s *Session) OnNotice(hear func(severity, message string)) { s.notice = hear }

func (s *Session) wrap(err error) error { return wrap(s.conn, err) }

// wrap turns the driver's errors into the core's.
func wrap(conn *pgx.Conn, err error) error {
	if err == nil {
		return nil
	}
	if conn.IsClosed() {
		return &engine.LostError{Err: innermost(err)}
	}
	var refused *pgconn.PgError
	if !errors.As(err, &refused) {
		return err
	}
	where := refused.Where
	if refused.InternalQuery != "" {
		where = strings.TrimSpace(where + "\nin the query: " + refused.InternalQuery)
	}
	return &engine.ServerError{
		Kind:     kindOf(refused.Code),
		SQLState: refused.Code,
		Message:  refused.Message,
		Detail:   refused.Detail,
		Hint:     refused.Hint,
		Where:    where,
		Position: int(refused.Position),
	}
}

// innermost keeps the server's last words, if there were any.
func innermost(err error) error {
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		return fmt.Errorf("%s (SQLSTATE %s)", refused.Message, refused.Code)
	}
	return errors.New(lastCause(err))
}
