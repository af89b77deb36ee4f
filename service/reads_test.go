package service_test

import (
	"context"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// TestGETNeverWrites: the records take no change, and every such route answers as it should.
func TestGETNeverWrites(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.a (id int);", "1-a.back.sql": "DROP TABLE public.a;"})
	w.Promoted("staging")
	_, err := w.Cut(t.Context(), "harbour", client.Cutting{Name: "r1"})
	require.NoError(t, err)
	must(w.Rehearse(t.Context(), "harbour", "production", client.Rehearsal{}, nil))
	person := w.As("m.kai", "administrator")
	machine := must(w.MakeToken(t.Context(), "pipeline", []string{"reader"}, time.Hour)).Text
	pgtest.Exec(t, w.URLs["staging"], "DROP TABLE public.a") // which is drift that nobody has seen

	name := w.Records[strings.LastIndex(w.Records, "/")+1:]
	pgtest.Exec(t, w.Records, "ALTER DATABASE "+name+" SET default_transaction_read_only = on")
	pgtest.Exec(t, w.Records, `SELECT pg_terminate_backend(pid) FROM pg_stat_activity
		WHERE application_name = 'vorrangd records' AND datname = current_database()`)
	with := strings.NewReplacer("ENV", "/api/v1/lanes/harbour/environments/staging", "LANE", "/api/v1/lanes/harbour",
		"{lane}", "harbour", "{id}", "1", "{step}", "1", "{release}", "r1", "{engine}", "postgresql", "{rehearsal}", "1")
	ask := map[string]string{
		"GET LANE/comparison": "?from=staging&to=production", "GET ENV/schemas": "?deployment=1",
		"GET /api/v1/session/openid/callback": "", "GET ENV/report": "?release=r1",
	}
	asked := 0
	for route := range who {
		path, is := strings.CutPrefix(route, "GET ")
		if !is || strings.Contains(route, "openid") {
			continue // of which signing in is a change
		}
		if strings.Contains(path, "{rehearsal}") {
			path = strings.Replace(path, "ENV", "/api/v1/lanes/harbour/environments/production", 1)
		}
		for _, token := range []string{servicetest.Token, person.Token, machine} {
			request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, w.Server+with.Replace(path)+ask[route], nil)
			require.NoError(t, err)
			request.Header.Set("Authorization", "Bearer "+token)
			answer, err := http.DefaultClient.Do(request)
			require.NoError(t, err)
			text, err := io.ReadAll(answer.Body)
			require.NoError(t, err)
			_ = answer.Body.Close()
			assert.Less(t, answer.StatusCode, 500, "%s: %s", route, text)
			asked++
		}
	}
	assert.Greater(t, asked, 100)
	for _, line := range w.Logged("read-only transaction") {
		if !strings.Contains(line, "the audit could not be kept") { // of who may not ask that
			assert.Contains(t, line, "comes later", "only what runs by itself writes: %s", line)
		}
	}
}

// TestAReadEndsWithItsCaller: what waits on a target for an answer that nobody takes is cancelled there.
func TestAReadEndsWithItsCaller(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.a (id int)"})
	w.Promoted("staging")
	holder := pgtest.Connect(t, w.URLs["staging"])
	_, err := holder.Exec(t.Context(), "BEGIN")
	require.NoError(t, err)
	_, err = holder.Exec(t.Context(), "LOCK TABLE vorrang.ledger")
	require.NoError(t, err)
	waiting := func() string {
		return pgtest.Query(t, w.URLs["production"], `SELECT count(*) FROM pg_stat_activity
			WHERE wait_event_type = 'Lock' AND application_name LIKE 'vorrangd %' AND datname = '`+holder.Config().Database+`'`)
	}
	for _, path := range []string{"ledger", "gate", "preview", "drift"} {
		ctx, leave := context.WithCancel(t.Context())
		request, err := http.NewRequestWithContext(
			ctx, http.MethodGet, w.Server+"/api/v1/lanes/harbour/environments/staging/"+path, nil,
		)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+servicetest.Token)
		left := make(chan error, 1)
		go func() {
			answer, err := http.DefaultClient.Do(request)
			if err == nil {
				_ = answer.Body.Close()
			}
			left <- err
		}()
		require.Eventually(t, func() bool { return waiting() != "0" }, time.Minute, 10*time.Millisecond, path)
		leave()
		require.ErrorIs(t, <-left, context.Canceled, path)
		require.Eventually(t, func() bool { return waiting() == "0" }, 40*time.Second, 10*time.Millisecond,
			"%s: its deadline is a minute", path)
	}
}

// TestAScratchDatabaseGoesWithItsCaller, in the middle of a step that nobody waits for any more.
func TestAScratchDatabaseGoesWithItsCaller(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "SELECT pg_sleep(613)"})
	must(w.Cut(t.Context(), "harbour", client.Cutting{Name: "r1"}))
	ctx, leave := context.WithCancel(t.Context())
	left := make(chan error, 1)
	go func() {
		_, err := w.CompareRelease(ctx, "harbour", "staging", "r1", false)
		left <- err
	}()
	scratch := func() string {
		return pgtest.Query(t, w.URLs["production"], `SELECT coalesce(max(datname), '') FROM pg_stat_activity
			WHERE state = 'active' AND query LIKE 'SELECT pg_sleep(613)%'`)
	}
	require.Eventually(t, func() bool { return scratch() != "" }, time.Minute, 10*time.Millisecond)
	name := scratch()
	leave()
	assert.Error(t, <-left)
	require.Eventually(t, func() bool {
		return pgtest.Query(t, w.URLs["production"], "SELECT count(*) FROM pg_database WHERE datname = '"+name+"'") == "0"
	}, time.Minute, 10*time.Millisecond)
}
