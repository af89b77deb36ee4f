package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"vorrang/core/evidence"
	"vorrang/core/sqltext"
)

// What the sessions of all engines do alike stands here.

// Answer is what a check's query gave, as far as it was read: a session adds its rows,
// and their values.
type Answer struct {
	rows   int
	untrue bool
	shown  []string
}

// Row begins a row, and reports whether its values are wanted: only the first row's are.
func (a *Answer) Row() bool {
	a.rows++
	return a.rows == 1
}

// Value adds a value of the row: whether it is true, and how it is shown, of which 60
// characters are kept.
func (a *Answer) Value(isTrue bool, shown string) {
	a.untrue = a.untrue || !isTrue
	const most = 60
	characters := 0
	for at := range shown {
		if characters++; characters > most {
			shown = shown[:at]
			break
		}
	}
	a.shown = append(a.shown, shown)
}

// Holds reports whether the check holds: with one row, and true in each of its columns.
// got says what it gave.
func (a *Answer) Holds() (holds bool, got string) {
	if a.rows != 1 {
		return false, fmt.Sprintf("%d rows", a.rows)
	}
	return !a.untrue, "(" + strings.Join(a.shown, ", ") + ")"
}

// Peeking are the settings for a check that is only evaluated: it takes half a minute at
// the most.
func (s Settings) Peeking() Settings {
	const most = 30 * time.Second
	if s.StatementTimeout == 0 || s.StatementTimeout > most {
		s.StatementTimeout = most
	}
	return s
}

// Outcomes asks the queries of a check by holds, which is as Steps.Holds. What the
// server refuses is an outcome too.
func Outcomes(
	check []sqltext.Statement, holds func(sqltext.Statement) (bool, string, error),
) ([]evidence.Outcome, error) {
	outcomes := []evidence.Outcome{}
	for _, query := range check {
		yes, got, err := holds(query)
		var refused *ServerError
		if errors.As(err, &refused) {
			yes, got, err = false, "an error: "+refused.Message, nil
		}
		if err != nil {
			return nil, err
		}
		outcomes = append(outcomes, evidence.Outcome{Query: string(query.SQL), Line: query.Line, Holds: yes, Got: got})
	}
	return outcomes, nil
}

// LookUp looks objects up, one after the other.
func LookUp(
	objects []evidence.Object, find func(evidence.Object) (there, invalid bool, err error),
) ([]evidence.Observation, error) {
	observations := []evidence.Observation{}
	for _, o := range objects {
		there, invalid, err := find(o)
		if err != nil {
			return nil, fmt.Errorf("look for the %s: %w", o, err)
		}
		observations = append(observations, evidence.Observation{Object: o, There: there, Invalid: invalid})
	}
	return observations, nil
}

// RunScript runs statements as Scratch.Run has it.
func RunScript(ctx context.Context, s Steps, settings Settings, statements []sqltext.Statement, autocommit bool) error {
	if len(statements) == 0 {
		return nil
	}
	var err error
	if autocommit {
		err = s.Prepare(ctx, settings)
	} else {
		err = s.Begin(ctx, settings)
	}
	for _, statement := range statements {
		if err == nil {
			if _, err = s.Exec(ctx, statement); err != nil {
				err = fmt.Errorf("line %d: %w", statement.Line, err)
			}
		}
	}
	if err == nil && !autocommit {
		err = s.Commit(ctx)
	}
	if err != nil {
		return errors.Join(err, s.Rollback(ctx))
	}
	return nil
}
