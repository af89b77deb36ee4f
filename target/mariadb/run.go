package mariadb

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/sqltext"
	"vorrang/internal/safely"
)

// Exec implements engine.Steps. A statement whose caller goes away is ended at the
// server too.
func (s *Session) Exec(ctx context.Context, statement sqltext.Statement) (int64, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	if err := s.entered(ctx); err != nil {
		return 0, err
	}
	is := shapeOf(statement)
	if s.whole && (is.verb == calls || is.verb == other) {
		return s.execWithin(ctx, statement, is)
	}
	return s.run(ctx, statement, is)
}

// execWithin runs what may end the step's transaction and begin another before it comes back: a
// savepoint of ours ends with the transaction.
func (s *Session) execWithin(ctx context.Context, statement sqltext.Statement, is shape) (int64, error) {
	if err := s.steps.exec(ctx, "SAVEPOINT vorrang_step"); err != nil {
		return 0, err
	}
	rows, err := s.run(ctx, statement, is)
	const noSavepoint, deadlock = "1305", "1213"
	var gone, refused *engine.ServerError
	if s.steps.lost || errors.As(err, &refused) && refused.SQLState == deadlock { // which rolls everything back
		return rows, err
	}
	release := s.steps.exec(context.WithoutCancel(ctx), "RELEASE SAVEPOINT vorrang_step")
	if errors.As(release, &gone) && gone.SQLState == noSavepoint {
		return rows, errors.Join(err, &engine.EndedError{})
	}
	return rows, errors.Join(err, release)
}

// run runs a statement, and asks what it left.
func (s *Session) run(ctx context.Context, statement sqltext.Statement, is shape) (int64, error) {
	s.clean = s.clean && leavesNothing(statement, is)
	s.sure = false
	steps, killed := s.steps, make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		defer close(killed)
		_ = safely.Do(func() error {
			within, cancel := context.WithTimeout(context.WithoutCancel(ctx), cancelGrace)
			defer cancel()
			return s.own.exec(within, fmt.Sprintf("KILL QUERY %d", steps.id))
		})
	})
	result, err := steps.ExecContext(context.WithoutCancel(ctx), string(statement.SQL))
	if !stop() {
		<-killed
	}
	if err != nil {
		if ctx.Err() != nil && !steps.lost {
			return 0, ctx.Err()
		}
		return 0, s.hinted(steps.wrap(err))
	}
	rows := int64(0)
	if is.verb == changes {
		rows, err = result.RowsAffected()
	}
	if err == nil {
		err = s.after(ctx)
	}
	return rows, err
}

// hinted says why a right is missing in a trial.
func (s *Session) hinted(err error) error {
	var refused *engine.ServerError
	if s.confined && errors.As(err, &refused) && slices.Contains(notAllowed, refused.SQLState) {
		refused.Hint = outside
	}
	return err
}

// after asks whether a transaction is open now, and whether the target's lock is held, and
// passes the server's warnings on where there are any.
func (s *Session) after(ctx context.Context) error {
	warnings := "0"
	err := s.steps.each(ctx, "SELECT @@in_transaction, @@warning_count, "+s.held(), nil, func(row []string) error {
		s.within, s.sure, warnings, s.proved = row[0] == "1", true, row[1], row[2] == "1"
		return nil
	})
	if err != nil || warnings == "0" || s.notice == nil {
		return err
	}
	return s.steps.each(ctx, "SHOW WARNINGS", nil, func(row []string) error {
		if row[0] != "Error" { // which the statement itself has given
			s.notice(strings.ToUpper(row[0]), row[2])
		}
		return nil
	})
}
