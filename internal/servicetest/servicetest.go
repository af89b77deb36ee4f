// Package servicetest starts a whole service in a test: records and targets on
// a real PostgreSQL, a listener on loopback, and a client.
package servicetest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/console"
	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/step"
	"vorrang/internal/pgtest"
	_ "vorrang/internal/programtest" // maps are drawn
	"vorrang/records"
	"vorrang/service"
	"vorrang/service/api"
	"vorrang/target/mariadb"
	"vorrang/target/postgres"
	"vorrang/target/sqlite"
)

// Token opens every service that this package starts.
const Token = "a-token-of-the-tests-0123456789"

// World is a running service with one lane: harbour.
type World struct {
	*client.Client
	T       testing.TB
	Service *service.Service
	Steps   string            // the lane's step folder
	URLs    map[string]string // of the targets, by environment
	Files   map[string]string // that hold them
	Records string            // the URL of the service's own database
	Folder  string            // of the SQLite files that may be targets

	held   atomic.Pointer[time.Time]
	ahead  atomic.Int64      // how far the service's clock is ahead of the machine's, in nanoseconds
	gates  map[string]string // what the environments' gates ask
	may    []string          // what steps may change
	also   map[string]string // what else the lane file says of environments
	fleets map[string]string // how the lane file says the targets of environments that have several
	openID func(address string) *service.OpenID
	log    lines
	stops  []func()
}

// lines is what the service logged.
type lines struct {
	mu   sync.Mutex
	text []byte
}

func (l *lines) Write(text []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.text = append(l.text, text...)
	return len(text), nil
}

// Ask sends a request as it is, with the administrator's token, and without the client.
func (w *World) Ask(t testing.TB, method, path string, body io.Reader, headers map[string]string) *http.Response {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), method, w.Server+path, body)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+Token)
	for name, value := range headers {
		request.Header.Set(name, value)
	}
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	t.Cleanup(func() { _ = answer.Body.Close() })
	return answer
}

// Logged are the lines that the service logged and that hold a text.
func (w *World) Logged(text string) (found []string) {
	w.log.mu.Lock()
	defer w.log.mu.Unlock()
	for line := range strings.Lines(string(w.log.text)) {
		if strings.Contains(line, text) {
			found = append(found, line)
		}
	}
	return found
}

// Start starts a service with the lane harbour: development, staging and
// production, each a database of its own.
func Start(t testing.TB) *World { return StartWith(t, nil) }

// StartWith starts a service where people sign in by OpenID Connect too.
func StartWith(t testing.TB, openID func(address string) *service.OpenID) *World {
	w := &World{
		openID: openID,
		T:      t,
		Steps:  t.TempDir(),
		Folder: t.TempDir(),
		URLs:   map[string]string{},
		Files:  map[string]string{},
	}
	for _, environment := range environments {
		w.URLs[environment] = pgtest.Database(t)
		file := filepath.Join(t.TempDir(), environment)
		require.NoError(t, os.WriteFile(file, []byte(w.URLs[environment]+"\n"), 0o600))
		w.Files[environment] = file
	}
	w.serve(EmptyRecords(t))
	const nothing = "release: not-asked, previous-environment: not-asked"
	w.Gates(map[string]string{"development": nothing, "staging": nothing, "production": nothing})
	return w
}

// template is a database with records in which nothing is yet: to copy it takes a tenth of what it
// takes to run all their steps.
var template struct {
	once sync.Once
	name string
	err  error
}

// EmptyRecords is the URL of such a copy on the shared server.
func EmptyRecords(t testing.TB) string {
	server := pgtest.Shared(t)
	template.once.Do(func() { template.name, template.err = makeTemplate(server) })
	require.NoError(t, template.err)
	url, err := server.Copy(template.name)
	require.NoError(t, err)
	return url
}

func makeTemplate(server *pgtest.Server) (string, error) {
	ctx := context.Background()
	url, err := server.Copy("template1")
	if err != nil {
		return "", err
	}
	store, err := records.Open(ctx, postgres.Engine{}, url, records.Settings{Wait: 10 * time.Second, Version: "test"})
	if err != nil {
		return "", err
	}
	store.Close()
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return "", err
	}
	const nothing = "DELETE FROM records.ledger_key; DELETE FROM records.service; ALTER TABLE records.service ALTER id RESTART"
	_, err = conn.Exec(ctx, nothing, pgx.QueryExecModeSimpleProtocol)
	return conn.Config().Database, errors.Join(err, conn.Close(ctx))
}

// environments are those of the lane, in their order; the first is disposable.
var environments = []string{"development", "staging", "production"}

// Gates declares the lane, with what the gates of environments ask. What is not
// named asks what is usual.
func (w *World) Gates(gates map[string]string) {
	w.T.Helper()
	w.gates = gates
	w.declare()
}

// LetSteps lets the lane's steps change more than schemas and rows.
func (w *World) LetSteps(may ...string) {
	w.T.Helper()
	w.may = may
	w.declare()
}

// Settings declares the lane with more of what a lane file can say of an environment,
// such as "mask: [harbour.pilot.name]".
func (w *World) Settings(environment, settings string) {
	w.T.Helper()
	if w.also == nil {
		w.also = map[string]string{}
	}
	w.also[environment] = settings
	w.declare()
}

// Away makes a target one that cannot be reached.
func (w *World) Away(environment string) {
	w.T.Helper()
	require.NoError(w.T, os.WriteFile(w.Files[environment], []byte("postgres://nobody@127.0.0.1:1/gone"), 0o600))
}

// Silent makes a target one that is connected to, and says nothing, until end is called.
func (w *World) Silent(environment string) (end func()) {
	w.T.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0") // the system answers for who does not accept
	require.NoError(w.T, err)
	end = func() { _ = listener.Close() } // it may be closed
	w.T.Cleanup(end)
	url := fmt.Sprintf("postgres://nobody@%s/silent", listener.Addr())
	require.NoError(w.T, os.WriteFile(w.Files[environment], []byte(url), 0o600))
	return end
}

// Found makes a target the one that it was.
func (w *World) Found(environment string) {
	w.T.Helper()
	require.NoError(w.T, os.WriteFile(w.Files[environment], []byte(w.URLs[environment]+"\n"), 0o600))
}

// Fleet declares an environment that has so many targets, each a database of its own: g1, g2 and so
// on. waves is what the lane file says of them, such as "canary: 1". Files holds them by
// ENVIRONMENT.TARGET, and URLs too.
func (w *World) Fleet(environment string, targets int, waves string) {
	w.T.Helper()
	var list []string
	for i := range targets {
		name := fmt.Sprintf("g%d", i+1)
		place := environment + "." + name
		if w.URLs[place] == "" {
			w.URLs[place] = pgtest.Database(w.T)
			w.Files[place] = filepath.Join(w.T.TempDir(), place)
			require.NoError(w.T, os.WriteFile(w.Files[place], []byte(w.URLs[place]+"\n"), 0o600))
		}
		list = append(list, fmt.Sprintf("%s: \"file:%s\"", name, w.Files[place]))
	}
	if w.fleets == nil {
		w.fleets = map[string]string{}
	}
	w.fleets[environment] = fmt.Sprintf("targets: [%s], waves: {%s}", strings.Join(list, ", "), waves)
	w.declare()
}

func (w *World) declare() {
	lane := fmt.Sprintf("lane: harbour\nsteps-may: [%s]\nenvironments:\n", strings.Join(w.may, ", "))
	for i, environment := range environments {
		gate := ""
		if asks := w.gates[environment]; asks != "" {
			gate = ", gate: {" + asks + "}"
		}
		if i == 0 { // the tests' user is a superuser
			gate += fmt.Sprintf(", disposable: true, scratch: \"file:%s\"", w.Files[environment])
		}
		if also := w.also[environment]; also != "" {
			gate += ", " + also
		}
		target := fmt.Sprintf("target: \"file:%s\"", w.Files[environment])
		if fleet := w.fleets[environment]; fleet != "" {
			target = fleet
		}
		lane += fmt.Sprintf("  - {name: %s, %s%s}\n", environment, target, gate)
	}
	_, err := w.Declare(w.T.Context(), "lane.yaml", []byte(lane), "harbour")
	require.NoError(w.T, err)
}

func (w *World) serve(recordsURL string) {
	w.Records = recordsURL
	w.stops = nil
	w.Service, w.Client = w.started()
}

// Beside starts another service on the same records, and returns its client.
func (w *World) Beside() *client.Client {
	_, c := w.started()
	return c
}

// started starts a service on the world's records, until the test's end.
func (w *World) started() (s *service.Service, c *client.Client) {
	ctx := context.Background()
	log := slog.New(slog.NewJSONHandler(&w.log, nil))
	store, err := records.Open(ctx, postgres.Engine{}, w.Records, records.Settings{
		Wait: 10 * time.Second, Version: "test", Log: log,
	})
	require.NoError(w.T, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(w.T, err)
	var openID *service.OpenID
	if w.openID != nil {
		openID = w.openID("http://" + listener.Addr().String())
	}
	s, err = service.New(
		service.Config{
			Engines:      engine.Of(postgres.Engine{}, mariadb.Engine{}, sqlite.Engine{Folder: w.Folder}),
			Records:      store,
			OpenID:       openID,
			Token:        Token,
			Console:      console.Files(),
			Log:          log,
			Version:      "test",
			Grace:        time.Second,
			Now:          w.Now,
			HookNetworks: []net.IPNet{{IP: net.IPv4(127, 0, 0, 0).To4(), Mask: net.CIDRMask(8, 32)}},
		},
	)
	require.NoError(w.T, err)
	require.NoError(w.T, s.Start(ctx))
	served := make(chan error, 1)
	go func() { served <- s.Serve(listener) }()
	stop := sync.OnceFunc(func() {
		s.Stop()
		<-served
		store.Close()
	})
	w.T.Cleanup(stop)
	w.stops = append(w.stops, stop)
	return s, client.New("http://"+listener.Addr().String(), Token, "pilot")
}

// Now is what the service takes for now.
func (w *World) Now() time.Time {
	from := time.Now()
	if held := w.held.Load(); held != nil {
		from = *held
	}
	return from.Add(time.Duration(w.ahead.Load()))
}

// HoldClock has the service's clock stand still, but for Pass.
func (w *World) HoldClock() {
	now := time.Now()
	w.held.Store(&now)
}

// Pass lets the service's clock go on at once. What the records' database holds
// against its own clock (sessions, tokens, what is due) does not notice.
func (w *World) Pass(d time.Duration) { w.ahead.Add(int64(d)) }

// Stop stops all its services as a signal would.
func (w *World) Stop() {
	for _, stop := range w.stops {
		stop()
	}
}

// Write puts files into the step folder; an empty text removes one.
func (w *World) Write(files map[string]string) {
	for name, text := range files {
		path := filepath.Join(w.Steps, name)
		if text == "" {
			require.NoError(w.T, os.Remove(path))
			continue
		}
		require.NoError(w.T, os.WriteFile(path, []byte(text), 0o644))
	}
}

// Submitted writes files and submits the folder, after a trial that has to say what comes of it. Steps whose files are
// taken away may leave the catalogue.
func (w *World) Submitted(files map[string]string) *api.Submitted {
	w.Write(files)
	var gone []string
	for name, text := range files {
		if parsed, err := step.ParseName(name); err == nil && text == "" && parsed.Part == step.Forward {
			gone = append(gone, string(parsed.Number))
		}
	}
	foretold, err := w.TrySubmit(w.T.Context(), "harbour", os.DirFS(w.Steps), gone...)
	require.NoError(w.T, err)
	submitted, err := w.Submit(w.T.Context(), "harbour", os.DirFS(w.Steps), gone...)
	require.NoError(w.T, err)
	foretold.Trial, foretold.Submission = false, submitted.Submission
	require.Equal(w.T, submitted, foretold)
	return submitted
}

// Ended waits for a deployment's end.
func (w *World) Ended(promoted *api.Promoted) *api.Deployment {
	require.NotNil(w.T, promoted.Deployment)
	id := promoted.Deployment.ID
	require.NoError(w.T, w.Follow(w.T.Context(), id, 0, func(deploy.Event) error { return nil }))
	ended, err := w.Deployment(w.T.Context(), id)
	require.NoError(w.T, err)
	return ended
}

// Promoted promotes and waits for the end.
func (w *World) Promoted(environment string) *api.Deployment {
	promoted, err := w.Promote(w.T.Context(), "harbour", environment, client.Promotion{})
	require.NoError(w.T, err)
	return w.Ended(promoted)
}

// FleetEnded waits for the end of a deployment to a fleet.
func (w *World) FleetEnded(promoted *api.Promoted) *api.FleetDeployment {
	w.T.Helper()
	require.NotNil(w.T, promoted.Fleet)
	ended := promoted.Fleet
	require.NoError(w.T, w.FollowFleet(w.T.Context(), ended.ID, func(now *api.FleetDeployment) error { ended = now; return nil }))
	return ended
}

// Password is that of everybody whom As lets in.
const Password = "the tide is at six"

// As lets somebody sign in, and returns a client that acts as them.
func (w *World) As(name string, grants ...string) *client.Client {
	password := Password
	_, err := w.PutPerson(w.T.Context(), name, client.PersonChange{Password: &password, Grant: grants})
	require.NoError(w.T, err)
	session, err := client.New(w.Server, "", "").Login(w.T.Context(), name, Password, "a test")
	require.NoError(w.T, err)
	return client.New(w.Server, session.Token, "somebody else")
}
