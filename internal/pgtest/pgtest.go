// Package pgtest starts PostgreSQL on loopback for tests: one server for all
// tests of a package, and a database of its own for each that asks.
package pgtest

import (
	"context"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

const password = "pgtest-superuser"

// Server is one PostgreSQL server.
type Server struct {
	Folder string
	Port   int

	copies sync.Mutex
	copier *pgx.Conn // makes databases: to connect takes as long as a small one takes
}

var (
	start  sync.Once
	shared *Server
	failed error
	number atomic.Int64
)

var ends []func() // what AtEnd was given

// AtEnd has Main do something once all tests have ended.
func AtEnd(do func()) { ends = append(ends, do) }

// Main runs a package's tests, and stops the server that they shared. Call it
// from TestMain. What else is to be stopped is called after the tests.
func Main(m *testing.M, stop ...func()) {
	code := m.Run()
	for _, one := range append(stop, ends...) {
		one()
	}
	if shared != nil {
		shared.stop()
	}
	if made != "" {
		_ = os.RemoveAll(made)
	}
	os.Exit(code)
}

// Shared returns the server that a package's tests share. It keeps no data
// safe: fsync is off.
func Shared(t testing.TB) *Server {
	t.Helper()
	start.Do(func() {
		shared, failed = launch("", "max_connections=400", "log_statement=all", "log_line_prefix=%p|",
			// a crash loses it, and its hundreds of databases last for a test each
			"full_page_writes=off", "autovacuum=off")
	})
	require.NoError(t, failed)
	return shared
}

// Database makes an empty database on the shared server, and returns its URL.
func Database(t testing.TB) string {
	t.Helper()
	return Shared(t).Database(t)
}

// Own starts a server for one test, which may stop it. All of them say of themselves that they are one
// cluster, as copies of one do.
func Own(t testing.TB) *Server {
	t.Helper()
	from, err := cluster()
	require.NoError(t, err)
	s, err := launch(from)
	require.NoError(t, err)
	t.Cleanup(s.stop)
	return s
}

// launch starts a server on a new cluster, or on a copy of the one in a folder.
func launch(from string, settings ...string) (*Server, error) {
	folder, err := newFolder()
	if err != nil {
		return nil, err
	}
	s := &Server{Folder: folder}
	if from != "" {
		if output, err := exec.Command("cp", "-a", from+"/cluster", folder).CombinedOutput(); err != nil {
			_ = os.RemoveAll(folder)
			return nil, fmt.Errorf("copy the cluster: %w\n%s", err, output)
		}
	}
	for range 5 { // another process may take a port between the question and the start
		if s.Port, err = FreePort(); err != nil {
			break
		}
		if err = s.Start(settings...); err == nil || !strings.Contains(err.Error(), "Address already in use") {
			break
		}
	}
	if err != nil {
		_ = os.RemoveAll(folder)
		return nil, err
	}
	return s, s.quickPassword()
}

// cluster is a cluster that was never started: to copy it takes a tenth of what it takes to make one.
var cluster = sync.OnceValues(func() (string, error) {
	folder, err := newFolder()
	if err != nil {
		return "", err
	}
	made = folder
	return folder, (&Server{}).script("make", folder+"/cluster")
})

var made string // the folder of cluster

// newFolder is a folder that is swept away when this process is gone.
func newFolder() (string, error) {
	sweep()
	folder, err := os.MkdirTemp(Memory(), prefix)
	if err != nil {
		return "", err
	}
	if err := os.WriteFile(filepath.Join(folder, owner), []byte(strconv.Itoa(os.Getpid())), 0o600); err != nil {
		return "", err
	}
	return folder, os.Chmod(folder, 0o755) // the server's user must come in
}

// quickPassword keeps the password hashed once instead of 4,096 times: the tests connect thousands of
// times, and under the race detector that took a quarter of their time.
//
// Source: RFC 5803, in PostgreSQL's form.
func (s *Server) quickPassword() error {
	salt := []byte("salt of no worth")
	salted, err := pbkdf2.Key(sha256.New, password, salt, 1, sha256.Size)
	if err != nil {
		return err
	}
	keyed := func(text string) []byte {
		sum := hmac.New(sha256.New, salted)
		sum.Write([]byte(text))
		return sum.Sum(nil)
	}
	stored, encode := sha256.Sum256(keyed("Client Key")), base64.StdEncoding.EncodeToString
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return err
	}
	_, err = conn.Exec(ctx, fmt.Sprintf("ALTER ROLE vorrang PASSWORD 'SCRAM-SHA-256$1:%s$%s:%s'",
		encode(salt), encode(stored[:]), encode(keyed("Server Key"))))
	return errors.Join(err, conn.Close(ctx))
}

const (
	prefix = "vorrang-test-"
	owner  = "owner" // a file with the number of the process whose server it is
)

// sweep ends, once, the servers of test runs that were killed: each keeps a few
// hundred megabytes of memory otherwise.
var sweep = sync.OnceFunc(func() {
	for _, root := range []string{"/dev/shm", os.TempDir()} {
		left, _ := filepath.Glob(filepath.Join(root, prefix+"*", owner)) // the pattern is right
		for _, name := range left {
			text, err := os.ReadFile(name)
			process, bad := strconv.Atoi(string(text))
			if err != nil || bad != nil || !errors.Is(syscall.Kill(process, 0), syscall.ESRCH) {
				continue
			}
			(&Server{Folder: filepath.Dir(name)}).stop()
		}
	}
})

// Memory is a folder in memory with room for a test's databases, or empty if
// this machine has none.
func Memory() string {
	const folder, room = "/dev/shm", 2 << 30 // bytes
	var stat syscall.Statfs_t
	if err := syscall.Statfs(folder, &stat); err != nil || stat.Bavail*uint64(stat.Bsize) < room {
		return ""
	}
	return folder
}

// Start starts the server; settings have the form NAME=VALUE.
func (s *Server) Start(settings ...string) error {
	args := append([]string{"start", s.Folder + "/cluster", strconv.Itoa(s.Port), "fsync=off"}, settings...)
	return s.script(args...)
}

// Stop stops the server in a mode: fast or immediate.
func (s *Server) Stop(mode string) error {
	return s.script("stop", s.Folder+"/cluster", mode)
}

func (s *Server) stop() {
	_ = s.Stop("immediate") // nothing in it is kept
	_ = os.RemoveAll(s.Folder)
}

func (s *Server) script(args ...string) error {
	command := exec.Command(filepath.Join(Root(), "scripts", "postgres"), args...)
	command.Env = append(os.Environ(), "VORRANG_PG_PASSWORD="+password)
	output, err := command.CombinedOutput()
	if err != nil {
		return fmt.Errorf("scripts/postgres %s: %w\n%s", args[0], err, output)
	}
	return nil
}

// Log is the server's log so far.
func (s *Server) Log(t testing.TB) string {
	t.Helper()
	text, err := os.ReadFile(s.Folder + "/cluster/data/server.log")
	require.NoError(t, err)
	return string(text)
}

// URL is the URL of a database, for the superuser.
func (s *Server) URL(database string) string {
	return (&url.URL{Scheme: "postgres", User: url.UserPassword("vorrang", password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(s.Port)), Path: database}).String()
}

// Database makes an empty database, and returns its URL.
func (s *Server) Database(t testing.TB) string {
	t.Helper()
	url, err := s.Copy("template1")
	require.NoError(t, err)
	return url
}

// Copy makes a copy of a database that nobody is connected to, and returns its URL. The server waits
// a moment for sessions that are about to end.
func (s *Server) Copy(of string) (string, error) {
	s.copies.Lock()
	defer s.copies.Unlock()
	ctx := context.Background()
	if s.copier == nil || s.copier.IsClosed() || s.copier.Ping(ctx) != nil { // the server may have been stopped
		var err error
		if s.copier, err = pgx.Connect(ctx, s.URL("postgres")); err != nil {
			return "", err
		}
	}
	name := fmt.Sprintf("test_%d", number.Add(1))
	_, err := s.copier.Exec(ctx, "CREATE DATABASE "+name+" TEMPLATE "+of)
	return s.URL(name), err
}

// Exec runs statements in a database.
func Exec(t testing.TB, url, sql string) {
	t.Helper()
	conn := Connect(t, url)
	defer func() { _ = conn.Close(context.Background()) }()
	_, err := conn.Exec(context.Background(), sql, pgx.QueryExecModeSimpleProtocol)
	require.NoError(t, err)
}

// Query returns the text of a query's only value.
func Query(t testing.TB, url, sql string) string {
	t.Helper()
	var value *string
	conn := Connect(t, url)
	defer func() { _ = conn.Close(context.Background()) }()
	require.NoError(t, conn.QueryRow(context.Background(), "SELECT ("+sql+")::text").Scan(&value))
	if value == nil {
		return "null"
	}
	return *value
}

// Connect opens a connection that is closed at the test's end.
func Connect(t testing.TB, url string) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), url)
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close(context.Background()) })
	return conn
}

// Root is the repository's folder.
func Root() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Join(filepath.Dir(file), "..", "..")
}

// FreePort returns a port on loopback that nothing uses, no connection is given by itself, and no other
// caller in this process has been given.
func FreePort() (int, error) {
	const first, many = 12_000, 20_000 // those that connections are given begin at 32768
	for range many {
		port := first + int(ports.Add(1)%many)
		listener, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
		if err == nil {
			return port, listener.Close()
		}
	}
	return 0, errors.New("no port on loopback is free")
}

// ports are those that were tried. Packages that are tested at the same time begin elsewhere.
var ports = func() *atomic.Uint32 {
	var n atomic.Uint32
	n.Store(rand.Uint32N(1 << 31))
	return &n
}()

var restricting = regexp.MustCompile(`(?m)^\\(un)?restrict .*$`)

// Dump is a database's schema and rows, without the ledger.
func Dump(t testing.TB, url string) string {
	t.Helper()
	text, err := exec.CommandContext(t.Context(), "/usr/lib/postgresql/15/bin/pg_dump", "--exclude-schema=vorrang", url).
		Output()
	require.NoError(t, err)
	return restricting.ReplaceAllString(string(text), "") // its key is another one each time
}
