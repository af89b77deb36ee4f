package postgres_test

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/internal/pgtest"
	"vorrang/target/postgres"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

func connect(t *testing.T, address string) *postgres.Session {
	session, err := postgres.Connect(t.Context(), address, "a test")
	require.NoError(t, err)
	t.Cleanup(session.Close)
	return session
}

// with changes one part of a URL.
func with(t *testing.T, address string, change func(*url.URL)) string {
	u, err := url.Parse(address)
	require.NoError(t, err)
	change(u)
	return u.String()
}

func TestAConnectionThatFailsSaysWhy(t *testing.T) {
	good := pgtest.Database(t)
	pgtest.Exec(t, good, "DO $$ BEGIN CREATE ROLE nologin_pilot NOLOGIN; EXCEPTION WHEN duplicate_object THEN END $$")
	free, err := pgtest.FreePort()
	require.NoError(t, err)
	query := func(key, value string) func(*url.URL) {
		return func(u *url.URL) { u.RawQuery = url.Values{key: {value}}.Encode() }
	}
	cases := map[string]struct {
		url     string
		kind    engine.ConnectKind
		message string
		fix     string
	}{
		"a wrong password": {
			with(t, good, func(u *url.URL) { u.User = url.UserPassword("vorrang", "planted-s3cret") }),
			engine.WrongPassword,
			"refuses the password of user vorrang",
			"correct the password",
		},
		"no such user": {
			with(t, good, func(u *url.URL) { u.User = url.UserPassword("nobody", "planted-s3cret") }),
			engine.WrongPassword, "user nobody", "correct",
		},
		"a user that is barred": {
			with(t, good, func(u *url.URL) { u.User = url.UserPassword("nologin_pilot", "planted-s3cret") }),
			engine.WrongPassword, "user nologin_pilot", "correct",
		},
		"no such database": {
			with(t, good, func(u *url.URL) { u.Path = "/moon" }),
			engine.NoSuchDatabase, "has no database moon", "create it",
		},
		"no TLS on the server": {
			with(t, good, query("sslmode", "require")),
			engine.NoTLS,
			"offers no TLS, and the URL demands it",
			"ssl = on",
		},
		"nobody listens": {
			with(t, good, func(u *url.URL) { u.Host = fmt.Sprintf("127.0.0.1:%d", free) }),
			engine.NobodyListens,
			fmt.Sprintf("nobody listens at 127.0.0.1:%d", free),
			"start the server",
		},
		"no such host": {
			with(t, good, func(u *url.URL) { u.Host = "no-such-host.invalid:5432" }),
			engine.NoSuchHost,
			"there is no host no-such-host.invalid",
			"correct the host",
		},
		"no URL": {"postgres://planted-s3cret:%%%", engine.BadURL, "cannot be read", "postgres://USER"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			_, err := postgres.Connect(t.Context(), c.url, "a test")
			var failed *engine.ConnectError
			require.ErrorAs(t, err, &failed)
			assert.Equal(t, c.kind, failed.Kind, "%v", err)
			assert.Contains(t, failed.Message, c.message)
			assert.Contains(t, failed.Fix, c.fix)
			assert.NotContains(t, err.Error(), "planted-s3cret")
		})
	}
}

// startPooler starts a real PgBouncer in front of a database.
func startPooler(t *testing.T, address, mode string) string {
	folder := t.TempDir()
	port, err := pgtest.FreePort()
	require.NoError(t, err)
	u, err := url.Parse(address)
	require.NoError(t, err)
	password, _ := u.User.Password()
	config := fmt.Sprintf(
		"[databases]\n* = host=%s port=%s user=%s password=%s\n[pgbouncer]\nlisten_addr=127.0.0.1\nlisten_port=%d\n"+
			"auth_type=any\npool_mode=%s\nunix_socket_dir=\nlogfile=%s/log\n",
		u.Hostname(), u.Port(), u.User.Username(), password, port, mode, folder,
	)
	file := filepath.Join(folder, "pgbouncer.ini")
	require.NoError(t, os.WriteFile(file, []byte(config), 0o644))
	command := exec.Command("pgbouncer", file)
	if os.Geteuid() == 0 { // it refuses to run as root
		for dir := folder; dir != os.TempDir() && dir != "/"; dir = filepath.Dir(dir) {
			require.NoError(t, os.Chmod(dir, 0o777))
		}
		command = exec.Command("setpriv", "--reuid=postgres", "--regid=postgres", "--init-groups", "pgbouncer", file)
	}
	require.NoError(t, command.Start())
	t.Cleanup(func() {
		_ = command.Process.Kill()
		_ = command.Wait()
	})
	pooled := with(t, address, func(u *url.URL) { u.Host = "127.0.0.1:" + strconv.Itoa(port) })
	require.Eventually(t, func() bool {
		session, err := postgres.Connect(t.Context(), pooled, "a test")
		if err == nil {
			session.Close()
		}
		return err == nil
	}, 10*time.Second, 50*time.Millisecond)
	return pooled
}

func TestAPoolerIsToldFromAServer(t *testing.T) {
	address := pgtest.Database(t)
	t.Run("in transaction mode it is refused", func(t *testing.T) {
		session := connect(t, startPooler(t, address, "transaction"))
		var failed *engine.ConnectError
		require.ErrorAs(t, session.Lock(t.Context()), &failed)
		assert.Equal(t, engine.Pooled, failed.Kind)
		assert.Contains(t, failed.Fix, "name the server itself in the URL, or a pool in session mode")
		_, err := session.Probe(t.Context(), "")
		assert.ErrorAs(t, err, &failed)
	})
	t.Run("in session mode it will do", func(t *testing.T) {
		session := connect(t, startPooler(t, address, "session"))
		require.NoError(t, session.Lock(t.Context()))
		probe, err := session.Probe(t.Context(), "")
		require.NoError(t, err)
		assert.Equal(t, "through a connection pooler in session mode", lookNamed(t, probe, "session").Message)
	})
}

func TestTheLockIsForOne(t *testing.T) {
	address := pgtest.Database(t)
	first, second := connect(t, address), connect(t, address)
	require.NoError(t, first.Lock(t.Context()))
	var held *engine.LockedError
	require.ErrorAs(t, second.Lock(t.Context()), &held)
	assert.Equal(t, "a test", held.Application)
	assert.Contains(
		t, held.Error(),
		fmt.Sprintf("held by session %d (a test, user vorrang), connected since ", held.PID),
	)
	first.Unlock()
	require.NoError(t, second.Lock(t.Context()))
	require.NoError(t, connect(t, pgtest.Database(t)).Lock(t.Context()), "every database has a lock of its own")
}

func TestTheLedgerIsAppendOnly(t *testing.T) {
	address := pgtest.Database(t)
	session := connect(t, address)
	_, exists, err := session.ReadLedger(t.Context())
	require.NoError(t, err)
	assert.False(t, exists)
	require.NoError(t, session.CreateLedger(t.Context()))
	require.NoError(t, session.CreateLedger(t.Context()), "it may be repeated")

	at := time.Date(2026, 11, 23, 6, 0, 0, 1000, time.FixedZone("", 3600))
	odd := ledger.NewHead().
		Next(ledger.Entry{Action: ledger.Applied, Step: "1", Slug: "it's", Actor: `O'Ship \ pilot`,
			Detail: []byte(`{"error":"a\n\"quote\" \\"}`)}, at)
	require.NoError(t, session.Append(t.Context(), odd))
	next := odd.Head().Next(ledger.Entry{Action: ledger.Applied, Step: "2"}, at)
	require.NoError(t, session.Append(t.Context(), next))
	entries, exists, err := session.ReadLedger(t.Context())
	require.NoError(t, err)
	assert.True(t, exists)
	require.NoError(t, ledger.Verify(entries), "what was written is what is read")
	assert.Equal(t, []ledger.Entry{odd, next}, entries)

	conn := pgtest.Connect(t, address)
	for _, change := range []string{"UPDATE vorrang.ledger SET actor = 'nobody'", "DELETE FROM vorrang.ledger",
		"TRUNCATE vorrang.ledger"} {
		_, err := conn.Exec(context.Background(), change)
		assert.ErrorContains(t, err, "the ledger is append-only", change)
	}
	assert.Error(t, session.Append(t.Context(), next), "no entry is written twice")
}

// Anyone can check the chain with psql, or with psql and sha256sum;
// docs/ledger.md gives both recipes.
func TestThePrintedRecipesCheckTheChain(t *testing.T) {
	text, err := os.ReadFile(filepath.Join(pgtest.Root(), "docs", "ledger.md"))
	require.NoError(t, err)
	_, rest, found := strings.Cut(string(text), "```sql\n")
	require.True(t, found)
	recipe, rest, _ := strings.Cut(rest, "```")
	_, rest, found = strings.Cut(rest, "```sh\n")
	require.True(t, found)
	script, _, _ := strings.Cut(rest, "```")

	address := pgtest.Database(t)
	session := connect(t, address)
	require.NoError(t, session.CreateLedger(t.Context()))
	head := ledger.NewHead()
	for _, action := range []ledger.Action{ledger.Baselined, ledger.Begun, ledger.Applied} {
		e := head.Next(
			ledger.Entry{Action: action, Step: "2.1", Slug: "a", Actor: "Grå Ternen", Detail: []byte(`{"n":1.50}`)},
			time.Now(),
		)
		require.NoError(t, session.Append(t.Context(), e))
		head = e.Head()
	}
	inShell := func() string {
		command := exec.Command("bash", "-euc", script)
		command.Env = append(os.Environ(), "TARGET="+address, "PATH=/usr/lib/postgresql/15/bin:"+os.Getenv("PATH"))
		output, err := command.CombinedOutput()
		require.NoError(t, err, "%s", output)
		return string(output)
	}
	assert.Empty(t, inShell())
	assert.Equal(
		t, "0",
		pgtest.Query(t, address, "SELECT count(*) FROM ("+strings.TrimRight(strings.TrimSpace(recipe), ";")+") broken"),
	)
	pgtest.Exec(
		t, address,
		"ALTER TABLE vorrang.ledger DISABLE TRIGGER append_only; UPDATE vorrang.ledger SET actor = 'nobody' WHERE seq = 2",
	)
	assert.Equal(t, "entry 2 does not fit\n", inShell())
	assert.Equal(
		t, "2",
		pgtest.Query(
			t, address,
			"SELECT string_agg(seq::text, ' ') FROM ("+strings.TrimRight(strings.TrimSpace(recipe), ";")+") broken",
		),
	)
}

func TestExistingObjectsAreCounted(t *testing.T) {
	address := pgtest.Database(t)
	session := connect(t, address)
	count := func(schemas ...string) engine.Existing {
		e, err := session.Existing(t.Context(), schemas)
		require.NoError(t, err)
		return e
	}
	require.NoError(t, session.CreateLedger(t.Context()))
	assert.Equal(t, engine.Existing{}, count(), "neither the system's objects nor the ledger count")
	pgtest.Exec(t, address, `SET search_path = public; CREATE EXTENSION citext; CREATE SCHEMA tide;
		CREATE TABLE berth (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, name text);
		CREATE TABLE tide.reading (at date) PARTITION BY RANGE (at); CREATE TABLE tide.reading_1 PARTITION OF tide.reading FOR
			VALUES FROM ('2026-01-01') TO ('2027-01-01');
		CREATE VIEW v AS SELECT 1; CREATE SEQUENCE s; CREATE TYPE e AS ENUM ('a'); CREATE DOMAIN d AS int;
		CREATE FUNCTION f() RETURNS int LANGUAGE sql RETURN 1;`)
	assert.Equal(t, engine.Existing{Tables: 3, Others: 5}, count())
	assert.Equal(t, engine.Existing{Tables: 2}, count("tide"))
	assert.Equal(t, engine.Existing{}, count("moon"))
}

func TestTheProbeSaysWhatMayBeDone(t *testing.T) {
	address := pgtest.Database(t)
	pgtest.Exec(
		t, address,
		"DROP ROLE IF EXISTS probed; CREATE ROLE probed LOGIN PASSWORD 'p'; DROP ROLE IF EXISTS probed_owner; CREATE ROLE "+
			"probed_owner",
	)
	weak := connect(t, with(t, address, func(u *url.URL) { u.User = url.UserPassword("probed", "p") }))
	probe, err := weak.Probe(t.Context(), "probed_owner")
	require.NoError(t, err)
	assert.False(t, probe.HasLedger)
	assert.Contains(t, lookNamed(t, probe, "encryption").Message, "not encrypted")
	assert.True(t, lookNamed(t, probe, "writable").OK)
	assert.Contains(t, lookNamed(t, probe, "ledger").Message, "user probed may not create schemas")
	assert.Contains(t, lookNamed(t, probe, "ledger").Fix, "GRANT CREATE ON DATABASE")
	assert.Equal(
		t,
		engine.Look{
			What:    "role",
			Message: "there is no role probed_owner that probed may become",
			Fix:     `GRANT "probed_owner" TO "probed"`,
		},
		lookNamed(t, probe, "role"),
	)

	require.NoError(t, connect(t, address).CreateLedger(t.Context()))
	pgtest.Exec(
		t, address,
		"GRANT probed_owner TO probed; GRANT USAGE ON SCHEMA vorrang TO probed; GRANT SELECT ON vorrang.ledger TO probed",
	)
	probe, err = weak.Probe(t.Context(), "probed_owner")
	require.NoError(t, err)
	assert.True(t, lookNamed(t, probe, "role").OK)
	assert.True(t, probe.HasLedger)
	assert.Equal(t, "is there, but user probed may not write it", lookNamed(t, probe, "ledger").Message)
}

// lookNamed finds one thing that a probe checked.
func lookNamed(t *testing.T, p engine.Probe, what string) engine.Look {
	t.Helper()
	at := slices.IndexFunc(p.Looks, func(l engine.Look) bool { return l.What == what })
	require.GreaterOrEqual(t, at, 0, "%s is among %v", what, p.Looks)
	return p.Looks[at]
}
