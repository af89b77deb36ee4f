package service_test

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"maps"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/step"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

// counting counts the bytes of requests' bodies.
type counting struct{ sent atomic.Int64 }

func (n *counting) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.Body != nil {
		r.Body = struct {
			io.Reader
			io.Closer
		}{io.TeeReader(r.Body, n), r.Body}
	}
	return http.DefaultTransport.RoundTrip(r)
}

func (n *counting) Write(p []byte) (int, error) {
	n.sent.Add(int64(len(p)))
	return len(p), nil
}

// TestOnlyWhatIsNewIsSent: of a large folder, and what comes of it is the same.
func TestOnlyWhatIsNewIsSent(t *testing.T) {
	w := servicetest.Start(t)
	sent := &counting{}
	w.Client.HTTP = &http.Client{Transport: sent}
	files := map[string]string{"1-a.sql": "\ufeffCREATE TABLE public.a (id int);\r\n", "1-a.back.sql": "DROP TABLE public.a;"}
	for i := 2; i <= 80; i++ {
		files[fmt.Sprintf("%d-note.sql", i)] = fmt.Sprintf("SELECT %d;\n", i) + strings.Repeat("-- tide\n", 500)
	}
	bytesOf := func(work func()) int64 {
		before := sent.sent.Load()
		work()
		return sent.sent.Load() - before
	}
	first := bytesOf(func() { assert.Len(t, w.Submitted(maps.Clone(files)).New, 80) })
	assert.Greater(t, first, int64(79*4000))
	again := bytesOf(func() { assert.Equal(t, 80, w.Submitted(maps.Clone(files)).Unchanged) })
	assert.Less(t, again, first/2, "names and digests are sent, and no text")

	files["81-b.sql"] = "CREATE TABLE public.b (id int);"
	files["80-note.sql"] = "SELECT 'another text';"
	more := bytesOf(func() {
		submitted := w.Submitted(maps.Clone(files))
		assert.Len(t, submitted.New, 1)
		assert.Len(t, submitted.Edited, 1)
	})
	assert.Less(t, more, first/2)
	step1 := must(w.Step(t.Context(), "harbour", "1", 0))
	assert.Equal(t, "CREATE TABLE public.a (id int);\n", step1.Files[0].Text)
	assert.Equal(t, deploy.Done, w.Promoted("development").Outcome)

	_, err := w.Declare(t.Context(), "lane.yaml", []byte("lane: dues\nenvironments: [{name: only, target: env:NOWHERE}]\n"))
	require.NoError(t, err)
	post := func(lane string, digest step.Checksum) (int, string) {
		var body bytes.Buffer
		archive := tar.NewWriter(&body)
		require.NoError(t, archive.WriteHeader(&tar.Header{Name: "1-a.sql", Mode: 0o644,
			PAXRecords: map[string]string{api.KnownText: string(digest)}}))
		require.NoError(t, archive.Close())
		answer := w.Ask(t, http.MethodPost, "/api/v1/lanes/"+lane+"/submissions/trial", &body,
			map[string]string{"Content-Type": "application/x-tar"})
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(text)
	}
	code, text := post("harbour", step.Sum([]byte("DROP TABLE public.a;")))
	assert.NotEqual(t, http.StatusConflict, code, "it is known: %s", text)
	code, text = post("harbour", step.Sum([]byte("SELECT 'never seen'")))
	assert.Equal(t, http.StatusConflict, code)
	assert.Contains(t, text, "1-a.sql: no file of the lane has the digest")
	code, _ = post("dues", step.Sum([]byte("DROP TABLE public.a;")))
	assert.Equal(t, http.StatusConflict, code, "what another lane has is nobody's business here")
	audit := must(w.Audit(t.Context(), client.AuditSearch{}))
	for _, act := range audit.Acts {
		assert.NotEqual(t, "knownTexts", act.Operation)
	}
}
