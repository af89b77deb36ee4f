// Bench measures Vorrang beside the database's own tools, on the same server
// in the same run, and writes docs/benchmarks.md.
//
//	make bench
//
// Every figure is a ratio of best times: durations alone say more about a
// machine than about a program.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/client"
)

const (
	rounds   = 6
	psql     = "/usr/lib/postgresql/15/bin/psql"
	token    = "a-token-of-the-bench-0123456789"
	password = "bench-superuser"
)

// manyPairs is how many random pairs of schemas are drafted.
var manyPairs = flag.Int64("pairs", 2000, "how many random pairs of schemas to draft; each takes most of a second")

// only names what is measured; the table of the docs is only written of all.
var only = flag.String("only", "", "measure these only, divided by commas, and write no file: small, nothing, copy, "+
	"snapshot, rehearsal, footprints, mariadb, board, pairs")

func main() {
	flag.Parse()
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// bench is a PostgreSQL, a vorrangd, and what was measured.
type bench struct {
	*served
	folder string
	pgPort int
	lines  []line
}

// served is a vorrangd.
type served struct {
	port    int
	service *exec.Cmd
	pid     atomic.Int64
	client  *client.Client
}

func newServed(port int) *served {
	return &served{port: port, client: client.New(fmt.Sprintf("http://127.0.0.1:%d", port), token, "bench")}
}

type line struct {
	work, against string
	ours, theirs  time.Duration
	aim           string
	met           bool
	over          float64 // by how much of the aim it is missed; 0 where the aim is no number
	figure        string
}

func run(ctx context.Context) (err error) {
	b := &bench{pgPort: 7361, served: newServed(7360)}
	if b.folder, err = os.MkdirTemp("", "vorrang-bench-"); err != nil {
		return err
	}
	defer os.RemoveAll(b.folder)
	if err := os.Chmod(b.folder, 0o755); err != nil {
		return err
	}
	if err := b.start(ctx); err != nil {
		return err
	}
	defer b.stop()
	if *soakFor > 0 {
		return b.soak(ctx, *soakFor)
	}
	idle, err := b.memory("VmHWM")
	if err != nil {
		return err
	}
	for _, one := range []struct {
		name    string
		measure func(context.Context) error
	}{{"small", b.smallSteps}, {"nothing", b.nothingToDo}, {"copy", b.copyData}, {"snapshot", b.snapshot},
		{"rehearsal", b.rehearsal}, {"footprints", b.footprints}, {"mariadb", b.smallMariaDB}, {"board", b.board},
		{"fleet", b.fleet}, {"pairs", b.pairs}} {
		if *only != "" && !slices.Contains(strings.Split(*only, ","), one.name) {
			continue
		}
		if err := one.measure(ctx); err != nil {
			return err
		}
	}
	peak, err := b.memory("VmHWM")
	if err != nil {
		return err
	}
	b.lines = append(
		b.lines,
		line{
			work:    "service's memory, idle",
			against: "",
			aim:     "48 MiB",
			figure:  fmt.Sprintf("%d MiB", idle),
			met:     idle <= 48,
			over:    float64(idle)/48 - 1,
		},
		line{
			work:    "service's memory, most through all of the above",
			against: "",
			aim:     "256 MiB",
			figure:  fmt.Sprintf("%d MiB", peak),
			met:     peak <= 256,
			over:    float64(peak)/256 - 1,
		},
	)
	return b.write(ctx)
}

func (b *bench) url(database string) string {
	return fmt.Sprintf("postgres://vorrang:%s@127.0.0.1:%d/%s", password, b.pgPort, database)
}

func (b *bench) start(ctx context.Context) error {
	if err := b.postgres("start", b.folder+"/cluster", strconv.Itoa(b.pgPort), "max_wal_size=4GB"); err != nil {
		return err
	}
	if err := b.exec(ctx, "postgres", "CREATE DATABASE records"); err != nil {
		return err
	}
	if err := b.script("mariadb", "start", b.folder+"/mariadb", strconv.Itoa(b.mariaPort())); err != nil {
		return err
	}
	if err := os.Mkdir(filepath.Join(b.folder, "sqlite"), 0o700); err != nil {
		return err
	}
	return b.launch(ctx, b.served)
}

// launch starts a service, and waits until it answers.
func (b *bench) launch(ctx context.Context, one *served) error {
	one.service = exec.Command("bin/vorrangd", "-listen", fmt.Sprintf("127.0.0.1:%d", one.port),
		"-sqlite", filepath.Join(b.folder, "sqlite"))
	one.service.Env = append(os.Environ(), "VORRANG_ADMIN_TOKEN="+token, "VORRANG_RECORDS_URL="+b.url("records"))
	one.service.Env = append(
		one.service.Env,
		fmt.Sprintf("ROSTER=mysql://vorrang:%s@127.0.0.1:%d/roster", password, b.mariaPort()),
	)
	for _, target := range []string{"SMALL", "MANY", "COPY", "REHEARSE"} {
		one.service.Env = append(one.service.Env, target+"="+b.url(strings.ToLower(target)))
	}
	if err := one.service.Start(); err != nil {
		return err
	}
	one.pid.Store(int64(one.service.Process.Pid))
	for range 200 {
		if _, err := one.client.Lanes(ctx); err == nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return errors.New("vorrangd did not start")
}

// end ends the service by a signal, and waits for it.
func (s *served) end(signal os.Signal) {
	if s.service != nil && s.service.Process != nil {
		_ = s.service.Process.Signal(signal)
		_ = s.service.Wait()
	}
}

func (b *bench) stop() {
	b.end(os.Interrupt)
	_ = b.script("mariadb", "stop", b.folder+"/mariadb", "kill")
	_ = b.postgres("stop", b.folder+"/cluster", "immediate")
}

// mariaPort is that of the MariaDB beside the PostgreSQL.
func (b *bench) mariaPort() int { return b.pgPort + 1 }

func (b *bench) postgres(args ...string) error { return b.script("postgres", args...) }

// script runs one of the scripts that start and stop servers.
func (b *bench) script(name string, args ...string) error {
	command := exec.Command("scripts/"+name, args...)
	command.Env = append(os.Environ(), "VORRANG_PG_PASSWORD="+password, "VORRANG_DB_PASSWORD="+password)
	if output, err := command.CombinedOutput(); err != nil {
		return fmt.Errorf("scripts/%s: %w\n%s", name, err, output)
	}
	return nil
}

// mariadb runs a script by the server's own client.
func (b *bench) mariadb(database, script string) error {
	command := exec.Command(
		"mariadb", "--no-defaults", "-h127.0.0.1",
		"-P"+strconv.Itoa(b.mariaPort()),
		"-uvorrang", database,
	)
	command.Env = append(os.Environ(), "MYSQL_PWD="+password)
	command.Stdin = strings.NewReader(script)
	if output, err := command.CombinedOutput(); err != nil {
		return fmt.Errorf("mariadb: %w\n%s", err, output)
	}
	return nil
}

func (b *bench) exec(ctx context.Context, database, sql string) error {
	conn, err := pgx.Connect(ctx, b.url(database))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, sql, pgx.QueryExecModeSimpleProtocol)
	return err
}

// fresh makes a database again.
func (b *bench) fresh(ctx context.Context, database string) error {
	if err := b.exec(ctx, "postgres", "DROP DATABASE IF EXISTS "+database+" WITH (FORCE)"); err != nil {
		return err
	}
	if err := b.exec(ctx, "postgres", "CREATE DATABASE "+database); err != nil {
		return err
	}
	return b.exec(ctx, "postgres", "CHECKPOINT")
}

// lane declares a lane with one environment, and submits files to it.
func (b *bench) lane(ctx context.Context, name string, files map[string]string) error {
	return b.laneOn(ctx, "postgresql", name, files)
}

func (b *bench) laneOn(ctx context.Context, engine, name string, files map[string]string) error {
	text := fmt.Sprintf(
		"lane: %s\nengine: %s\nenvironments: [{name: only, target: env:%s}]\n",
		name, engine, strings.ToUpper(name),
	)
	return b.declared(ctx, name, text, files)
}

// reference is one to a URL, which it keeps in a file.
func (b *bench) reference(name, url string) (string, error) {
	path := filepath.Join(b.folder, name+".url")
	return "file:" + path, os.WriteFile(path, []byte(url), 0o600)
}

// get asks the service as a page does, to which an answer of up to 2 s ago will do.
func (s *served) get(ctx context.Context, path string) (io.ReadCloser, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, s.client.Server+path, nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Authorization", "Bearer "+token)
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		return nil, err
	}
	if answer.StatusCode != http.StatusOK {
		_ = answer.Body.Close()
		return nil, fmt.Errorf("%s: %s", path, answer.Status)
	}
	return answer.Body, nil
}

// declared declares a lane by the text of its file, and submits files to it.
func (b *bench) declared(ctx context.Context, name, text string, files map[string]string) error {
	if _, err := b.client.Declare(ctx, "lane.yaml", []byte(text)); err != nil {
		return err
	}
	folder := filepath.Join(b.folder, name)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for file, text := range files {
		if err := os.WriteFile(filepath.Join(folder, file), []byte(text), 0o644); err != nil {
			return err
		}
	}
	_, err := b.client.Submit(ctx, name, os.DirFS(folder))
	return err
}

func (b *bench) psql(database, file string) error {
	command := exec.Command(psql, "-X", "-q", "-v", "ON_ERROR_STOP=1", "-o", "/dev/null", b.url(database), "-f", file)
	if output, err := command.CombinedOutput(); err != nil {
		return fmt.Errorf("psql: %w\n%s", err, output)
	}
	return nil
}

// promote runs a whole promotion through the client program.
func (b *bench) promote(lane string, more ...string) error {
	args := append([]string{"promote", "-lane", lane, "-to", "only", "-server", b.client.Server}, more...)
	command := exec.Command("bin/vorrang", args...)
	command.Env = append(os.Environ(), "VORRANG_TOKEN="+token)
	if output, err := command.CombinedOutput(); err != nil {
		return fmt.Errorf("vorrang promote: %w\n%s", err, output)
	}
	return nil
}

func timed(work func() error) (time.Duration, error) {
	start := time.Now()
	err := work()
	return time.Since(start), err
}

// compare lets both sides take turns, each first every other time, and returns
// the best time of each: what a shared disk adds is noise, and never negative.
func compare(prepare, ours, theirs func() error) (mine, other time.Duration, err error) {
	var times [2][]time.Duration
	sides := [2]func() error{ours, theirs}
	for round := range 2 * rounds {
		side := (round + round/2) % 2
		if err := prepare(); err != nil {
			return 0, 0, err
		}
		took, err := timed(sides[side])
		if err != nil {
			return 0, 0, err
		}
		times[side] = append(times[side], took)
	}
	return slices.Min(times[0]), slices.Min(times[1]), nil
}

// memory is what the system says of the service's memory, in MiB: VmHWM is the most that it
// has held, VmRSS what it holds.
func (s *served) memory(what string) (int64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.pid.Load()))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(text)) {
		if value, found := strings.CutPrefix(line, what+":"); found {
			kib, err := strconv.ParseInt(strings.Fields(value)[0], 10, 64)
			return kib / 1024, err
		}
	}
	return 0, fmt.Errorf("the system does not say %s of the service", what)
}
