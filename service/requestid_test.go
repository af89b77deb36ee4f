package service_test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/internal/servicetest"
)

// TestARequestIsFoundAgainInTheLog: from the caller's number to the deployment's, which the
// ledger's rows have.
func TestARequestIsFoundAgainInTheLog(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.berth (id int)"})
	ask := func(method, path, header, value string) (number string) {
		t.Helper()
		headers := map[string]string{"Content-Type": "application/json"}
		if header != "" {
			headers[header] = value
		}
		answer := w.Ask(t, method, path, strings.NewReader("{}"), headers)
		require.Less(t, answer.StatusCode, 300)
		return answer.Header.Get("X-Request-ID")
	}
	const promotions = "/api/v1/lanes/harbour/environments/staging/promotions"
	assert.Equal(t, "pipeline-4711", ask(http.MethodPost, promotions, "X-Request-ID", "pipeline-4711"))
	w.Ended(must(w.Promote(t.Context(), "harbour", "development", client.Promotion{})))
	started := w.Logged(`"request":"pipeline-4711"`)
	require.NotEmpty(t, started)
	var deployment bool
	for _, line := range started {
		deployment = deployment || strings.Contains(line, `"deployment started"`) && strings.Contains(line, `"deployment":1,`)
	}
	assert.True(t, deployment, strings.Join(started, ""))
	assert.NotEmpty(t, w.Logged(`"path":"`+promotions+`"`), "what may change something is in the log")

	const trace = "4bf92f3577b34da6a3ce929d0e0e4736"
	assert.Equal(t, trace, ask(http.MethodGet, "/api/v1/lanes", "traceparent", "00-"+trace+"-00f067aa0ba902b7-01"))
	one, other := ask(http.MethodGet, "/healthz", "", ""), ask(http.MethodGet, "/healthz", "", "")
	assert.Regexp(t, `^[0-9a-z]{16}$`, one)
	assert.NotEqual(t, one, other)
	assert.Regexp(t, `^[0-9a-z]{16}$`, ask(http.MethodGet, "/healthz", "X-Request-ID", `x","actor":"m.kai`), "no line is forged")
}
