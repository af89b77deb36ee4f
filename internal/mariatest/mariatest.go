// Package mariatest starts MariaDB on loopback for tests: one server for all tests of a
// package, and a database of its own for each that asks.
package mariatest

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"

	_ "github.com/go-sql-driver/mysql" // the driver of other programs
	"github.com/stretchr/testify/require"

	"vorrang/internal/pgtest"
)

const password = "mariatest-superuser"

// Server is one MariaDB server.
type Server struct {
	Folder string
	Port   int
}

var (
	start  sync.Once
	shared *Server
	failed error
	number atomic.Int64
)

// Stop stops the server that a package's tests shared. Call it from TestMain.
func Stop() {
	if shared != nil {
		shared.stop()
	}
}

// Shared returns the server that a package's tests share. It keeps no data safe.
func Shared(t testing.TB) *Server {
	t.Helper()
	start.Do(func() { shared, failed = launch() })
	require.NoError(t, failed)
	return shared
}

// Database makes an empty database on the shared server, and returns its URL.
func Database(t testing.TB) string {
	t.Helper()
	server := Shared(t)
	name := fmt.Sprintf("test_%d", number.Add(1))
	require.NoError(t, Exec(t, server.URL("mysql"), "CREATE DATABASE "+name))
	return server.URL(name)
}

const (
	prefix = "vorrang-maria-"
	owner  = "owner" // a file with the number of the process whose server it is
)

func launch() (*Server, error) {
	sweep()
	folder, err := os.MkdirTemp(pgtest.Memory(), prefix)
	if err != nil {
		return nil, err
	}
	s := &Server{Folder: folder}
	if err := os.WriteFile(filepath.Join(folder, owner), []byte(strconv.Itoa(os.Getpid())), 0o600); err != nil {
		return nil, err
	}
	if err := os.Chmod(folder, 0o755); err != nil { // the server's user must come in
		return nil, err
	}
	for range 3 { // another program may have taken the port meanwhile
		if s.Port, err = pgtest.FreePort(); err != nil {
			return nil, err
		}
		if err = s.Start(); err == nil {
			return s, nil
		}
	}
	_ = os.RemoveAll(folder)
	return nil, err
}

// Start starts the server; settings have the form NAME=VALUE.
func (s *Server) Start(settings ...string) error {
	return s.script(
		append(
			[]string{
				"start",
				s.Folder + "/server",
				strconv.Itoa(s.Port),
				"innodb-flush-log-at-trx-commit=0",
				"general-log=1",
				"general-log-file=" + s.Folder + "/server/general.log",
				"max-connections=300",
			},
			settings...)...)
}

// Kill kills the server.
func (s *Server) Kill() error { return s.script("stop", s.Folder+"/server", "kill") }

func (s *Server) stop() {
	_ = s.Kill() // nothing in it is kept
	_ = os.RemoveAll(s.Folder)
}

func (s *Server) script(args ...string) error {
	command := exec.Command(filepath.Join(pgtest.Root(), "scripts", "mariadb"), args...)
	command.Env = append(os.Environ(), "VORRANG_DB_PASSWORD="+password)
	output, err := command.CombinedOutput()
	if err != nil {
		return fmt.Errorf("scripts/mariadb %s: %w\n%s", args[0], err, output)
	}
	return nil
}

// sweep ends, once, the servers of test runs that were killed.
var sweep = sync.OnceFunc(func() {
	for _, root := range []string{"/dev/shm", os.TempDir()} {
		left, _ := filepath.Glob(filepath.Join(root, prefix+"*", owner)) // the pattern is right
		for _, name := range left {
			text, err := os.ReadFile(name)
			process, bad := strconv.Atoi(string(text))
			if err == nil && bad == nil && errors.Is(syscall.Kill(process, 0), syscall.ESRCH) {
				(&Server{Folder: filepath.Dir(name)}).stop()
			}
		}
	}
})

// Log is the server's general log so far: what clients sent.
func (s *Server) Log(t testing.TB) string {
	t.Helper()
	text, err := os.ReadFile(s.Folder + "/server/general.log")
	require.NoError(t, err)
	return string(text)
}

// URL is the URL of a database, for the superuser.
func (s *Server) URL(database string) string {
	return (&url.URL{Scheme: "mysql", User: url.UserPassword("vorrang", password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(s.Port)), Path: database}).String()
}

// Open opens a database as another program would.
func Open(t testing.TB, address string) *sql.DB {
	t.Helper()
	u, err := url.Parse(address)
	require.NoError(t, err)
	secret, _ := u.User.Password()
	db, err := sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(%s)%s", u.User.Username(), secret, u.Host, u.Path))
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

// Exec runs a statement.
func Exec(t testing.TB, url, statement string) error {
	t.Helper()
	db := Open(t, url)
	defer db.Close()
	_, err := db.ExecContext(context.Background(), statement)
	return err
}

// Query returns the text of a query's only value.
func Query(t testing.TB, url, query string) string {
	t.Helper()
	var value sql.NullString
	db := Open(t, url)
	defer db.Close()
	require.NoError(t, db.QueryRowContext(context.Background(), query).Scan(&value), query)
	return value.String
}

// Client runs the server's own client on a database, with a script.
func (s *Server) Client(t testing.TB, database, script string, args ...string) (string, error) {
	t.Helper()
	command := exec.CommandContext(
		t.Context(), "mariadb",
		append(
			[]string{"--no-defaults", "-h127.0.0.1", "-P" + strconv.Itoa(s.Port), "-uvorrang", database},
			args...)...)
	command.Env = append(os.Environ(), "MYSQL_PWD="+password)
	command.Stdin = strings.NewReader(script)
	output, err := command.CombinedOutput()
	return string(output), err
}

// Dump is what mariadb-dump writes of a database's schema, without the ledger.
func (s *Server) Dump(t testing.TB, database string) string {
	t.Helper()
	return s.dump(t, "--no-data", "--compact", "--ignore-table="+database+".vorrang_ledger", database)
}

// DumpAll is what it writes of a database with all that is in it.
func (s *Server) DumpAll(t testing.TB, database string) string {
	t.Helper()
	return s.dump(t, database)
}

func (s *Server) dump(t testing.TB, args ...string) string {
	command := exec.CommandContext(
		t.Context(), "mariadb-dump",
		append([]string{"--no-defaults", "-h127.0.0.1", "-P" + strconv.Itoa(s.Port), "-uvorrang",
			"--routines", "--triggers", "--events", "--skip-comments"}, args...)...)
	command.Env = append(os.Environ(), "MYSQL_PWD="+password)
	output, err := command.CombinedOutput()
	require.NoError(t, err, string(output))
	return string(output)
}
