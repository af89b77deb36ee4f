package tests

import (
	"encoding/hex"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	trace "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"vorrang/internal/pgtest"
)

// taken are the spans that somebody was sent.
type taken struct {
	mu    sync.Mutex
	spans map[string]*trace.Span // by name
	about []string               // of the service
}

func (k *taken) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	var sent trace.TracesData // which has the form of a request
	if err == nil {
		err = proto.Unmarshal(body, &sent)
	}
	if err != nil || r.URL.Path != "/v1/traces" || r.Header.Get("X-Port") != "Nordmole 1" {
		http.Error(w, "not a trace", http.StatusBadRequest)
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, of := range sent.ResourceSpans {
		for _, attribute := range of.Resource.Attributes {
			k.about = append(k.about, attribute.Key+"="+attribute.Value.GetStringValue())
		}
		for _, scope := range of.ScopeSpans {
			for _, span := range scope.Spans {
				k.spans[span.Name] = span
			}
		}
	}
}

// TestADeploymentsTraceIsSent: with its steps and statements, in the trace of the request, and
// without what a server says, which may hold values.
func TestADeploymentsTraceIsSent(t *testing.T) {
	kept := &taken{spans: map[string]*trace.Span{}}
	at := httptest.NewServer(kept)
	defer at.Close()
	p := startProcess(t, "TARGET="+pgtest.Database(t), "OTEL_EXPORTER_OTLP_ENDPOINT="+at.URL,
		"OTEL_BSP_SCHEDULE_DELAY=50", "OTEL_EXPORTER_OTLP_HEADERS=x-port=Nordmole%201", "OTEL_RESOURCE_ATTRIBUTES=deployment.environment.name=port")
	_, err := p.Declare(t.Context(), "lane.yaml", []byte(oneLane))
	require.NoError(t, err)
	p.submit(map[string]string{
		"1-berth.sql": "CREATE TABLE berth (id text PRIMARY KEY);\nINSERT INTO berth VALUES ('the east mole');",
		"2-twice.sql": "INSERT INTO berth VALUES ('the east mole');",
	})
	request, err := http.NewRequestWithContext(t.Context(), http.MethodPost,
		p.Server+"/api/v1/lanes/harbour/environments/staging/promotions", http.NoBody)
	require.NoError(t, err)
	const id = "0af7651916cd43dd8448eb211c80319c"
	request.Header.Set("Authorization", "Bearer "+token)
	request.Header.Set("traceparent", "00-"+id+"-b7ad6b7169203331-01")
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer answer.Body.Close()
	require.Equal(t, http.StatusAccepted, answer.StatusCode)
	require.Eventually(t, func() bool {
		kept.mu.Lock()
		defer kept.mu.Unlock()
		return kept.spans["deployment"] != nil
	}, 20*time.Second, 20*time.Millisecond)
	require.NoError(t, p.command.Process.Signal(syscall.SIGTERM)) // which sends the rest
	require.NoError(t, p.command.Wait())

	names := []string{}
	for name, span := range kept.spans {
		names = append(names, name)
		assert.Equal(t, id, hexOf(span.TraceId), name)
		assert.NotContains(t, span.String(), "east mole")
		assert.LessOrEqual(t, span.StartTimeUnixNano, span.EndTimeUnixNano, name)
	}
	slices.Sort(names)
	assert.Equal(t, []string{"deployment", "statement 1", "statement 2", "step 1 berth", "step 2 twice"}, names)
	whole, failed := kept.spans["deployment"], kept.spans["step 2 twice"]
	assert.Equal(t, "b7ad6b7169203331", hexOf(whole.ParentSpanId))
	assert.Equal(t, whole.SpanId, failed.ParentSpanId)
	assert.Equal(t, kept.spans["step 1 berth"].SpanId, kept.spans["statement 2"].ParentSpanId)
	assert.Equal(t, trace.Status_STATUS_CODE_ERROR, failed.Status.Code)
	assert.Equal(t, "23505", failed.Status.Message)
	assert.Equal(t, "failed", whole.Status.Message)
	assert.Subset(t, kept.about, []string{"service.name=vorrangd", "deployment.environment.name=port"})
}

func hexOf(id []byte) string { return hex.EncodeToString(id) }
