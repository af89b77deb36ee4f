package sqlite

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net/url"
	"reflect"
	"strconv"
	"strings"
	"time"

	sqlite3 "github.com/mattn/go-sqlite3"

	"vorrang/core/engine"
)

// conn is one connection to a file. It is not safe for concurrent use.
type conn struct {
	*sqlite3.SQLiteConn
	guard
	timeout time.Duration // for a statement; 0 is none
}

// The library is a part of the service, so it is bounded: a row, string or statement in
// bytes, and all memory that it takes. The log of a file in WAL mode reaches the disk
// with each commit, and what a hostile file holds is not trusted.
// Source: https://www.sqlite.org/security.html
const (
	longest  = 64 << 20
	cautious = "PRAGMA synchronous = FULL; PRAGMA trusted_schema = OFF; PRAGMA cell_size_check = ON; PRAGMA " +
		"hard_heap_limit = 268435456"
)

// connectPatience is how long to wait for whoever writes to the file, to read it or to
// write to the ledger.
const connectPatience = 5 * time.Second

// dial opens a file that is there.
func dial(path string) (*conn, error) {
	opened, err := (&sqlite3.SQLiteDriver{}).Open(
		(&url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(), RawQuery: "mode=rw"}).String(),
	)
	if err != nil {
		return nil, err
	}
	c := &conn{SQLiteConn: opened.(*sqlite3.SQLiteConn)}
	c.SetLimit(sqlite3.SQLITE_LIMIT_LENGTH, longest)
	c.SetLimit(sqlite3.SQLITE_LIMIT_ATTACHED, 0)
	err = c.ours(func() error { return c.exec(context.Background(), cautious) })
	if err != nil {
		_ = c.Close()
		return nil, err
	}
	c.RegisterAuthorizer(c.allow)
	return c, nil
}

// ours runs statements of the package's own.
func (c *conn) ours(do func() error) error {
	before := c.guard.ours
	c.guard.ours = true
	defer func() { c.guard.ours = before }()
	return do()
}

// vacuum runs what runs VACUUM, the one statement that needs a second file.
func (c *conn) vacuum(do func() error) error {
	c.SetLimit(sqlite3.SQLITE_LIMIT_ATTACHED, 1)
	c.vacuuming = true
	defer func() {
		c.vacuuming = false
		c.SetLimit(sqlite3.SQLITE_LIMIT_ATTACHED, 0)
	}()
	return do()
}

// patience is how long to wait for a lock that another connection holds.
func (c *conn) patience(ctx context.Context, d time.Duration) error {
	const forever = 1<<31 - 1
	ms := engine.Milliseconds(d)
	if ms == 0 || ms > forever {
		ms = forever
	}
	return c.ours(func() error { return c.exec(ctx, "PRAGMA busy_timeout = "+strconv.FormatInt(ms, 10)) })
}

func values(args []any) []driver.NamedValue {
	named := make([]driver.NamedValue, len(args))
	for i, arg := range args {
		named[i] = driver.NamedValue{Ordinal: i + 1, Value: arg}
	}
	return named
}

// exec runs statements without arguments.
func (c *conn) exec(ctx context.Context, sql string) error { return c.run(ctx, sql) }

func (c *conn) run(ctx context.Context, sql string, args ...any) error {
	_, err := c.change(ctx, sql, args...)
	return err
}

// change runs a statement, and says how many rows it changed.
func (c *conn) change(ctx context.Context, sql string, args ...any) (int64, error) {
	within, cancel := c.within(ctx)
	defer cancel()
	if err := ctx.Err(); err != nil { // the library may begin before it looks
		return 0, err
	}
	c.refused = ""
	result, err := c.ExecContext(within, sql, values(args))
	if err != nil {
		return 0, c.wrap(ctx, within, err)
	}
	return result.RowsAffected()
}

// single runs a step's statement, which must be one by SQLite's own reading, hands over its
// rows, and says how many it changed, which is what the connection's newest change of rows
// changed where it changes none.
func (c *conn) single(ctx context.Context, sql string, each func([]driver.Value) error) (int64, error) {
	within, cancel := c.within(ctx)
	defer cancel()
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	c.refused = ""
	prepared, err := c.PrepareContext(within, sql)
	if err != nil {
		return 0, c.wrap(ctx, within, err)
	}
	defer prepared.Close()
	statement, is := prepared.(*sqlite3.SQLiteStmt)
	if !is {
		return 0, fmt.Errorf("the driver gave a %T for a statement", prepared)
	}
	if tail, err := tailOf(statement); err != nil || tail != "" {
		return 0, errors.Join(err, &engine.ServerError{
			Kind:     engine.Other,
			SQLState: "SQLITE_ERROR",
			Message: "SQLite reads more than one statement here; what follows the first was not run: " +
				engine.Bounded(tail),
			Hint: "end each statement with a semicolon that stands outside of strings, names and comments",
		})
	}
	if each == nil {
		result, err := statement.ExecContext(within, nil)
		if err != nil {
			return 0, c.wrap(ctx, within, err)
		}
		return result.RowsAffected()
	}
	rows, err := statement.QueryContext(within, nil)
	if err != nil {
		return 0, c.wrap(ctx, within, err)
	}
	return 0, c.rows(ctx, within, rows, each)
}

// tailOf is what SQLite left over of a text after its first statement. The library keeps it
// in a field that it does not export.
func tailOf(statement *sqlite3.SQLiteStmt) (string, error) {
	tail := reflect.ValueOf(statement).Elem().FieldByName("t")
	if !tail.IsValid() || tail.Kind() != reflect.String {
		return "", errors.New("this version of go-sqlite3 does not say what follows a statement, so nothing is run")
	}
	return tail.String(), nil
}

// query hands over each row of a query; the values are those of SQLite's types.
func (c *conn) query(ctx context.Context, sql string, args []any, each func([]driver.Value) error) error {
	within, cancel := c.within(ctx)
	defer cancel()
	if err := ctx.Err(); err != nil {
		return err
	}
	c.refused = ""
	rows, err := c.QueryContext(within, sql, values(args))
	if err != nil {
		return c.wrap(ctx, within, err)
	}
	return c.rows(ctx, within, rows, each)
}

// rows reads rows to their end and closes them.
func (c *conn) rows(ctx, within context.Context, rows driver.Rows, each func([]driver.Value) error) error {
	defer rows.Close()
	row := make([]driver.Value, len(rows.Columns()))
	for {
		switch err := rows.Next(row); {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return c.wrap(ctx, within, err)
		}
		if each != nil {
			if err := each(row); err != nil {
				return err
			}
		}
	}
}

func (c *conn) within(ctx context.Context) (context.Context, context.CancelFunc) {
	if c.timeout == 0 {
		return context.WithCancel(ctx)
	}
	return context.WithTimeout(ctx, c.timeout)
}

// has reports whether there is a table or a view.
func (c *conn) has(ctx context.Context, name string) (there bool, err error) {
	err = c.query(
		ctx,
		`SELECT 1 FROM main.sqlite_schema WHERE type IN ('table', 'view') AND name = ? COLLATE NOCASE`,
		[]any{name},
		func([]driver.Value) error {
			there = true
			return nil
		},
	)
	return there, err
}

// rollback ends a transaction without effect, if one is open.
func (c *conn) rollback() error {
	if c.AutoCommit() {
		return nil
	}
	return c.ours(func() error { return c.exec(context.Background(), "ROLLBACK") })
}

// wrap turns the library's errors into the core's.
func (c *conn) wrap(ctx, within context.Context, err error) error {
	var refused sqlite3.Error
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case within.Err() != nil:
		return &engine.ServerError{
			Kind:     engine.Other,
			SQLState: "SQLITE_INTERRUPT",
			Message:  fmt.Sprintf("the statement took longer than its timeout of %s", c.timeout),
		}
	case !errors.As(err, &refused):
		return err
	}
	failure := &engine.ServerError{
		SQLState: codeName(refused),
		Message:  engine.Bounded(messageOf(refused)),
		Kind:     kindOf(refused),
	}
	if refused.Code == sqlite3.ErrAuth && c.refused != "" {
		failure.Message = c.refused
	}
	failure.Hint = hints[refused.Code]
	return failure
}

// messageOf is the library's word, without its number.
func messageOf(e sqlite3.Error) string {
	if e.Code == sqlite3.ErrBusy {
		return "another process or connection is writing to the file, and did not end in time"
	}
	return e.Error()
}

var hints = map[sqlite3.ErrNo]string{
	sqlite3.ErrCorrupt: "the file is damaged: bring back a copy, or read what is left with .recover of the sqlite3 shell",
	sqlite3.ErrNotADB:  "the file is not an SQLite database, or is encrypted",
	sqlite3.ErrReadonly: "let the user that vorrangd runs as write to the file and to its folder, where the journal " +
		"stands beside it",
	sqlite3.ErrFull: "make room on the disk",
}

// codes are SQLite's own names of its results.
// Source: https://www.sqlite.org/rescode.html
var codes = []string{
	"OK", "ERROR", "INTERNAL", "PERM", "ABORT", "BUSY", "LOCKED", "NOMEM", "READONLY", "INTERRUPT", "IOERR",
	"CORRUPT", "NOTFOUND", "FULL", "CANTOPEN", "PROTOCOL", "EMPTY", "SCHEMA", "TOOBIG", "CONSTRAINT", "MISMATCH",
	"MISUSE", "NOLFS", "AUTH", "FORMAT", "RANGE", "NOTADB",
}

// What a code ends with where SQLite has none of its own.
const (
	alreadyThere = ", already there"
	notThere     = ", not there"
)

// codeName is SQLITE_ with what the library calls the result. An error of no other
// kind says in words only whether something is there already, or missing; the code
// keeps that.
func codeName(e sqlite3.Error) string {
	name := "SQLITE_OTHER"
	if int(e.Code) < len(codes) {
		name = "SQLITE_" + codes[e.Code]
	}
	switch kindOf(e) {
	case engine.Duplicate:
		name += alreadyThere
	case engine.Missing:
		name += notThere
	}
	return name
}

func kindOf(e sqlite3.Error) engine.Kind {
	message := e.Error()
	switch {
	case e.Code == sqlite3.ErrBusy, e.Code == sqlite3.ErrLocked:
		return engine.LockTimeout
	case e.Code != sqlite3.ErrError:
		return engine.Other
	case strings.HasSuffix(message, " already exists"),
		strings.Contains(message, "there is already"),
		strings.HasPrefix(message, "duplicate column name"):
		return engine.Duplicate
	case strings.HasPrefix(message, "no such "):
		return engine.Missing
	}
	return engine.Other
}

// str is a value as text; the library gives text as string or []byte.
func str(v driver.Value) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case []byte:
		return string(v)
	}
	return fmt.Sprint(v)
}
