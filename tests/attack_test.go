package tests

import (
	"bytes"
	"compress/gzip"
	"context"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/internal/pgtest"
	"vorrang/service/api"
)

// besieged is a running service that is asked all the time whether it lives.
type besieged struct {
	*process
	target string
}

// mostMemory is what the service's process may have taken at its most, in bytes.
const mostMemory = 512 << 20

// patience is how long /healthz may take. It answers in milliseconds; the usual
// patience is for machines that are busy with other tests.
var patience = flag.Duration(
	"patience", 10*time.Second,
	"how long the service under attack may take to say that it lives",
)

// besiege starts a service with the lane harbour. At the end of the test it must
// be alive, and must have been all the time.
func besiege(t *testing.T) *besieged {
	b := &besieged{target: pgtest.Database(t)}
	b.process = startProcess(t, "TARGET="+b.target)
	_, err := b.Declare(
		t.Context(), "lane.yaml",
		[]byte("lane: harbour\nenvironments: [{name: staging, target: env:TARGET, gate: {release: not-asked}}]\n"),
	)
	require.NoError(t, err)
	over, asked := make(chan struct{}), make(chan error, 1)
	var slowest time.Duration
	go func() {
		asking := http.Client{Timeout: *patience}
		for {
			began := time.Now()
			answer, err := asking.Get(b.Server + "/healthz")
			if err != nil {
				asked <- err
				return
			}
			_ = answer.Body.Close()
			slowest = max(slowest, time.Since(began))
			select {
			case <-over:
				asked <- nil
				return
			case <-time.After(100 * time.Millisecond):
			}
		}
	}()
	t.Cleanup(func() {
		close(over)
		taken, err := b.mostTaken(), <-asked
		b.kill()
		t.Logf(
			"the slowest answer of /healthz took %d ms, and the most memory was %d MiB",
			slowest.Milliseconds(), taken>>20,
		)
		assert.NoError(t, err, "it answers throughout; its log:\n%s", lastOf(b.log.String()))
		assert.Less(t, taken, int64(mostMemory), "bytes of memory, at the most")
	})
	return b
}

func lastOf(text string) string { return text[max(0, len(text)-4000):] }

// mostTaken is the most memory that the process ever had, in bytes.
func (b *besieged) mostTaken() int64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", b.command.Process.Pid))
	require.NoError(b.t, err, "the process is gone")
	_, rest, _ := strings.Cut(string(text), "VmHWM:")
	line, _, _ := strings.Cut(strings.TrimSpace(rest), " kB")
	kilobytes, err := strconv.ParseInt(line, 10, 64)
	require.NoError(b.t, err)
	return kilobytes << 10
}

// send sends a request as it stands, and returns the answer's code and text.
func (b *besieged) send(method, path string, body io.Reader, headers ...string) (int, string) {
	request, err := http.NewRequestWithContext(b.t.Context(), method, b.Server+path, body)
	require.NoError(b.t, err)
	for i := 0; i < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		return 0, err.Error()
	}
	defer answer.Body.Close()
	text, _ := io.ReadAll(answer.Body) // as much as there is
	return answer.StatusCode, string(text)
}

// endless gives so many bytes.
func endless(text string, size int64) io.Reader {
	text = strings.Repeat(text, 1+(64<<10)/len(text)) // in large pieces
	return io.LimitReader(&repeated{text: []byte(text)}, size)
}

type repeated struct {
	text []byte
	at   int
}

func (r *repeated) Read(p []byte) (int, error) {
	for n := 0; n < len(p); {
		copied := copy(p[n:], r.text[r.at:])
		n, r.at = n+copied, (r.at+copied)%len(r.text)
	}
	return len(p), nil
}

func TestAttackBodies(t *testing.T) {
	b := besiege(t)
	bomb := []byte("x")
	for range 3 { // layers
		var packed bytes.Buffer
		writer := gzip.NewWriter(&packed)
		_, err := io.Copy(writer, io.MultiReader(bytes.NewReader(bomb), endless("\x00", 100<<20/int64(len(bomb)))))
		require.NoError(t, err)
		require.NoError(t, writer.Close())
		bomb = packed.Bytes()
	}
	code, text := b.send(
		"POST", "/api/v1/session", bytes.NewReader(bomb), "Content-Type", "application/json", "Content-Encoding",
		"gzip, gzip, gzip",
	)
	assert.Equal(t, http.StatusUnsupportedMediaType, code, text)
	code, text = b.send(
		"POST", "/api/v1/session",
		struct{ io.Reader }{endless(" ", 700<<20)},
		"Content-Type", "application/json",
	) // chunked
	assert.Contains(t, []int{0, http.StatusRequestEntityTooLarge}, code, "it is refused, or hung up on: %s", text)
	for i := range 40 {
		name := fmt.Sprintf(`{"name":"%d%s","password":"x"}`, i, strings.Repeat("a", 1_900_000))
		code, text = b.send("POST", "/api/v1/session", strings.NewReader(name), "Content-Type", "application/json")
		assert.Contains(t, []int{http.StatusBadRequest, http.StatusTooManyRequests}, code, text)
	}
	code, text = b.send(
		"POST", "/api/v1/lanes",
		struct{ io.Reader }{endless("lane: a\n", 700<<20)},
		"Content-Type", "application/yaml", "Authorization", "Bearer "+token,
	)
	assert.Contains(t, []int{0, http.StatusRequestEntityTooLarge}, code, "it is refused, or hung up on: %s", text)
}

// A body that a handler leaves unread is no next request.
func TestAttackWhatFollowsABody(t *testing.T) {
	b := besiege(t)
	conn, err := net.Dial("tcp", strings.TrimPrefix(b.Server, "http://"))
	require.NoError(t, err)
	defer conn.Close()
	within := "GET /api/v1/people HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " + token + "\r\n\r\n"
	_, err = fmt.Fprintf(
		conn,
		"GET /healthz HTTP/1.1\r\nHost: x\r\nContent-Length: %d\r\n\r\n%sGET /readyz HTTP/1.1\r\nHost: x\r\n"+
			"Connection: close\r\n\r\n",
		len(within), within,
	)
	require.NoError(t, err)
	text, err := io.ReadAll(conn)
	require.NoError(t, err)
	assert.NotContains(t, string(text), `"people"`)
	assert.Equal(t, 2, strings.Count(string(text), "HTTP/1.1 200"), "%s", text)
}

// Uploads that come slowly hold neither the records nor a lane's turn.
func TestAttackSlowUploads(t *testing.T) {
	t.Parallel() // it mostly waits
	b := besiege(t)
	b.submit(map[string]string{"1-create-berth.sql": "CREATE TABLE berth (id int);"})
	ctx, cancel := context.WithCancel(t.Context())
	var sending sync.WaitGroup
	var begun sync.WaitGroup
	for range 7 {
		begun.Add(1)
		sending.Go(func() {
			reader, writer := io.Pipe()
			request, err := http.NewRequestWithContext(
				ctx, "POST",
				b.Server+"/api/v1/lanes/harbour/submissions",
				reader,
			)
			assert.NoError(t, err)
			request.Header.Set("Authorization", "Bearer "+token)
			request.Header.Set("Vorrang-Actor", "slow")
			request.Header.Set("Content-Type", "application/x-tar")
			go func() {
				_, _ = writer.Write(make([]byte, 512))
				begun.Done()
				<-ctx.Done()
				_ = writer.CloseWithError(ctx.Err())
			}()
			if answer, err := http.DefaultClient.Do(request); err == nil {
				_ = answer.Body.Close()
			}
		})
	}
	begun.Wait()
	b.submit(
		map[string]string{
			"1-create-berth.sql": "CREATE TABLE berth (id int);",
			"2-create-pilot.sql": "CREATE TABLE pilot (id int);",
		},
	)
	_, err := b.Cut(t.Context(), "harbour", client.Cutting{Name: "2026.12"})
	require.NoError(t, err)
	_, err = b.Lanes(t.Context())
	require.NoError(t, err)
	cancel()
	sending.Wait()
	code, text := b.send(
		"POST",
		"/api/v1/lanes/harbour/submissions",
		struct{ io.Reader }{endless("\x00", 300<<20)},
		"Authorization",
		"Bearer "+token,
		"Content-Type", "application/x-tar",
	)
	assert.Contains(t, []int{0, http.StatusRequestEntityTooLarge}, code, text)
}

// A statement of many megabytes is stored, cut, shown and run in memory that
// is some times its size, and no more.
func TestAttackALargeStatement(t *testing.T) {
	b := besiege(t)
	row := "(1, '" + strings.Repeat("x", 1000) + "'),\n"
	b.submit(map[string]string{"1-create-berth.sql": "CREATE TABLE berth (id int, note text);",
		"2-load-berths.sql": "INSERT INTO berth VALUES " + strings.Repeat(row, 45_000) + "(2, 'the last');"})
	_, err := b.Preview(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	promoted, err := b.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	ended := b.ended(promoted)
	assert.Equal(t, deploy.Done, ended.Outcome, "%v", ended.Failure)
	assert.Equal(t, "45001", pgtest.Query(t, b.target, "SELECT count(*)::text FROM berth"))
	t.Logf("%d MiB at the most", b.mostTaken()>>20)
}

// What the grammar's own code cannot take ends neither the service nor a
// deployment, and the server is the judge.
func TestAttackDeepStatements(t *testing.T) {
	b := besiege(t)
	files := map[string]string{}
	for i, part := range []string{"+1", " || 'a'", "::int", " CROSS JOIN b", " UNION ALL SELECT 1"} {
		text := "SELECT 1"
		if strings.Contains(part, "JOIN") {
			text = "SELECT FROM b"
		}
		files[fmt.Sprintf("%d-deep.sql", i+2)] = text + strings.Repeat(part, 25_000) + ";"
	}
	files["1-create-berth.sql"] = "CREATE TABLE berth (id int);\nINSERT INTO berth SELECT " + strings.TrimSuffix(
		strings.Repeat("1+", 4000),
		"+",
	) + ";"
	folder := fstest.MapFS{}
	for name, text := range files {
		folder[name] = &fstest.MapFile{Data: []byte(text)}
	}
	_, err := b.Submit(t.Context(), "harbour", folder)
	require.ErrorContains(t, err, "problem", "what nobody can read may change anything")
	_, err = b.Declare(t.Context(), "lane.yaml", []byte("lane: harbour\nsteps-may: [roles, event-triggers, session-user, settings]\n"+
		"environments: [{name: staging, target: env:TARGET, gate: {release: not-asked}}]\n"), "harbour")
	require.NoError(t, err)
	submitted, err := b.Submit(t.Context(), "harbour", folder)
	require.NoError(t, err)
	noted := map[string]bool{}
	for _, note := range submitted.Notes {
		noted[note.File] = noted[note.File] || strings.Contains(note.Message, "too deep to be reviewed")
	}
	for name := range files {
		assert.True(t, noted[name] || name == "1-create-berth.sql", "%s: %v", name, submitted.Notes)
	}
	promoted, err := b.Promote(t.Context(), "harbour", "staging", client.Promotion{Through: "1"})
	require.NoError(t, err)
	assert.Equal(t, deploy.Done, b.ended(promoted).Outcome, "legal SQL of 4,000 terms runs")
	promoted, err = b.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	failed := b.ended(promoted)
	assert.Equal(t, deploy.Failed, failed.Outcome)
	assert.Contains(t, failed.Failure.Message, "stack depth limit exceeded", "the server is the judge")
}

// Server texts are as long as a step wants them to be.
func TestAttackServerTexts(t *testing.T) {
	b := besiege(t)
	say := func(sql string) *api.Deployment {
		b.submit(map[string]string{"1-say.sql": sql})
		promoted, err := b.Promote(t.Context(), "harbour", "staging", client.Promotion{})
		require.NoError(t, err)
		return b.ended(promoted)
	}
	failed := say(
		"DO $$ BEGIN RAISE EXCEPTION USING message = repeat('m', 100000000), detail = repeat('d', 50000000), hint = " +
			"repeat('h', 1000000); END $$;",
	)
	require.Equal(t, deploy.Failed, failed.Outcome)
	assert.Equal(t, strings.Repeat("m", 16<<10)+" … (cut here; 99983616 more bytes)", failed.Failure.Message)
	lanes, err := b.Lanes(t.Context())
	require.NoError(t, err)
	assert.Len(t, lanes.Lanes, 1)
	_, text := b.send("GET", "/api/v1/lanes", nil, "Authorization", "Bearer "+token)
	assert.Less(t, len(text), 200_000)
	done := say(
		"LISTEN harbour;\nDO $$ BEGIN RAISE NOTICE '%', repeat('n', 100000000); FOR i IN 1..60000 LOOP PERFORM " +
			"pg_notify('harbour', repeat('x', 7000) || i); END LOOP; END $$;\n" +
			"SELECT repeat('r', 500000000);\nSELECT repeat('s', 1000) FROM generate_series(1, 300000);",
	)
	require.Equal(t, deploy.Done, done.Outcome, "%v", done.Failure)
}

func (p *process) ended(promoted *api.Promoted) *api.Deployment {
	require.NotNil(p.t, promoted.Deployment)
	require.NoError(p.t, p.Follow(p.t.Context(), promoted.Deployment.ID, 0, func(deploy.Event) error { return nil }))
	ended, err := p.Deployment(p.t.Context(), promoted.Deployment.ID)
	require.NoError(p.t, err)
	return ended
}

// A map of very many tables that refer to one is drawn, and holds nobody up.
func TestAttackTheMap(t *testing.T) {
	b := besiege(t)
	pgtest.Exec(t, b.target, "CREATE TABLE port (id int PRIMARY KEY)")
	pgtest.Exec(
		t, b.target,
		"DO $$ BEGIN FOR i IN 1..2000 LOOP EXECUTE format('CREATE TABLE t%s (port int REFERENCES port)', i); IF i % 100 = "+
			"0 THEN COMMIT; END IF; END LOOP; END $$",
	)
	code, text := b.send("GET", "/api/v1/lanes/harbour/environments/staging/map", nil, "Authorization", "Bearer "+token)
	assert.Equal(t, http.StatusOK, code)
	assert.Equal(t, 2000, strings.Count(text, `"to":"public.port"`)+strings.Count(text, `"to": "public.port"`))
}

// Numbers, names and counts of any size have a clear answer in bounded time.
func TestAttackOddValues(t *testing.T) {
	b := besiege(t)
	b.submit(map[string]string{"1-create-berth.sql": "CREATE TABLE berth (id int);"})
	const staging = "/api/v1/lanes/harbour/environments/staging"
	for name, c := range map[string]struct{ method, path, body string }{
		"a number of 600 kB": {"POST", staging + "/promotions", `{"through":"` + strings.Repeat("9", 600_000) + `"}`},
		"a number that overflows": {"POST", "/api/v1/tokens",
			`{"name":"robot","grant":["reader"],"seconds":99999999999999999999999}`},
		"seconds that overflow": {"POST", "/api/v1/tokens",
			`{"name":"robot","grant":["reader"],"seconds":9223372036854775807}`},
		"a megabyte of zeros": {"POST", staging + "/rollbacks", `{"last":` + strings.Repeat("0", 1_000_000) + `}`},
		"zeros as a number":   {"POST", staging + "/promotions", `{"through":"` + strings.Repeat("0", 90_000) + `1"}`},
		// too long
		"a NUL in a query":         {"GET", staging + "/preview?through=%00", ""},
		"a NUL in a path":          {"GET", "/api/v1/lanes/har%00bour", ""},
		"a NUL in a body":          {"POST", staging + "/promotions", `{"through":"\u0000"}`},
		"nested beyond all bounds": {"POST", staging + "/promotions", strings.Repeat(`{"through":`, 200_000)},
		"a limit that is too high": {"GET", "/api/v1/deployments?limit=99999999999999999999", ""},
	} {
		code, text := b.send(
			c.method, c.path, strings.NewReader(c.body), "Authorization",
			"Bearer "+token,
			"Content-Type", "application/json",
		)
		assert.True(t, code >= 400 && code < 500, "%s: %d %.300s", name, code, text)
		assert.Less(t, len(text), 2000, name)
	}
	for name, text := range map[string]string{"semicolons": strings.Repeat(";", 8<<20),
		"statements": strings.Repeat("SELECT;", 1_000_000), "lines": "SELECT 1" + strings.Repeat("\n", 8<<20)} {
		_, err := b.TrySubmit(
			t.Context(), "harbour",
			fstest.MapFS{
				"1-create-berth.sql": {Data: []byte("CREATE TABLE berth (id int);")},
				"2-many.sql":         {Data: []byte(text)},
			},
		)
		var answered *client.Error
		if name == "lines" {
			assert.NoError(t, err, name)
			continue
		}
		require.ErrorAs(t, err, &answered, name)
		require.NotEmpty(t, answered.Errors, name)
		assert.Equal(t, "2-many.sql", answered.Errors[0].File)
	}
}
