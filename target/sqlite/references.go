package sqlite

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vorrang/core/engine"
)

// broken is a foreign key that rows break, with how many; or one that no row could
// keep, since what it refers to is no key.
type broken struct {
	table, parent string
	mismatch      string // SQLite's word of it; empty for rows
}

// checkReferences refuses what the open transaction broke. What the file had before
// is its owner's. A key that cannot be kept counts where SQLite holds foreign keys.
// Source: https://www.sqlite.org/pragma.html#pragma_foreign_key_check
func (s *Session) checkReferences(ctx context.Context) error {
	after, err := s.steps.broken(ctx)
	if err != nil {
		return fmt.Errorf("check the foreign keys: %w", err)
	}
	if !s.at.foreignKeys {
		maps.DeleteFunc(after, func(b broken, _ int) bool { return b.mismatch != "" })
	}
	if len(after) == 0 {
		return nil
	}
	before, err := s.own.broken(ctx)
	if err != nil {
		before = nil // the transaction fills the file's cache: what was there before cannot be read, and counts
	}
	for _, b := range slices.SortedFunc(maps.Keys(after), func(a, b broken) int {
		return strings.Compare(a.table+a.parent+a.mismatch, b.table+b.parent+b.mismatch)
	}) {
		n := after[b] - before[b]
		if n <= 0 {
			continue
		}
		failure := &engine.ServerError{
			Kind:     engine.Other,
			SQLState: "SQLITE_CONSTRAINT",
			Hint:     "PRAGMA foreign_key_check names them",
			Message: fmt.Sprintf(
				"the step leaves rows of %s behind that refer to no row of %s: %d",
				b.table, b.parent, n,
			),
		}
		if b.mismatch != "" {
			failure.Message, failure.Hint = b.mismatch, "what a foreign key refers to needs a primary key, or a unique index "+
				"on just these columns"
		}
		return failure
	}
	return nil
}

func (c *conn) broken(ctx context.Context) (map[broken]int, error) {
	var tables []string
	err := c.query(
		ctx,
		`SELECT DISTINCT s.name FROM main.sqlite_schema s, pragma_foreign_key_list(s.name) WHERE s.type = 'table'`,
		nil,
		func(row []driver.Value) error {
			tables = append(tables, str(row[0]))
			return nil
		},
	)
	if err != nil {
		return nil, err
	}
	found := map[broken]int{}
	for _, table := range tables {
		err := c.query(
			ctx,
			"PRAGMA main.foreign_key_check("+identifier(table)+")",
			nil,
			func(row []driver.Value) error {
				found[broken{table: table, parent: str(row[2])}]++
				return nil
			},
		)
		var refused *engine.ServerError
		if errors.As(err, &refused) && strings.HasPrefix(refused.Message, "foreign key mismatch") {
			found[broken{table: table, mismatch: refused.Message}]++
			err = nil
		}
		if err != nil {
			return nil, err
		}
	}
	return found, nil
}
