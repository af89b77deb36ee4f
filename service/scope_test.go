package service_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// queries lists the query parameters of every call that reads, by path.
func queries(t *testing.T) map[string][]string {
	text, err := os.ReadFile(filepath.Join(pgtest.Root(), "docs", "openapi.json"))
	require.NoError(t, err)
	var document struct {
		Paths map[string]struct {
			Get struct{ Parameters []struct{ Name, In string } }
		}
	}
	require.NoError(t, json.Unmarshal(text, &document))
	found := map[string][]string{}
	for path, methods := range document.Paths {
		for _, p := range methods.Get.Parameters {
			if p.In == "query" {
				found[path] = append(found[path], p.Name)
			}
		}
	}
	return found
}

// Whoever may read one environment learns nothing of another, whichever
// parameter names it: not even whether it is there.
func TestNoParameterNamesWhatMayNotBeLookedAt(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"1-create-secret.sql":      "/*---\nonly: production\n---*/\nCREATE TABLE secret_of_production (id int);",
			"1-create-secret.back.sql": "DROP TABLE secret_of_production;",
		},
	)
	_, err := w.Cut(t.Context(), "harbour", client.Cutting{Name: "2026.11"})
	require.NoError(t, err)
	w.Promoted("production") // deployment 1
	w.Submitted(map[string]string{"2-create-berth.sql": "CREATE TABLE berth (id int);"})
	w.Promoted("development") // deployment 2
	w.Promoted("staging")     // deployment 3
	token := must(w.MakeToken(t.Context(), "one-eyed", []string{"reader@harbour/staging"}, time.Hour)).Text
	ask := func(path string, headers ...string) (int, string) {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, w.Server+path, nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+token)
		for i := 0; i < len(headers); i += 2 {
			request.Header.Set(headers[i], headers[i+1])
		}
		answer, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(text)
	}
	const lane, staging, production = "/api/v1/lanes/harbour", "/api/v1/lanes/harbour/environments/staging",
		"/api/v1/lanes/harbour/environments/production"
	asked := map[string]bool{}
	for _, path := range []string{
		lane, "/api/v1/lanes", "/api/v1/deployments", "/api/v1/deployments?environment=production", "/api/v1/deployments/1",
		"/api/v1/deployments/1/events",
		lane + "/comparison?from=production&with=staging", lane + "/comparison?from=staging&with=production", lane +
			"/comparison?from=staging&deployment=1",
		lane + "/releases/2026.11?environment=production", lane + "/verification", lane +
			"/verification?environment=production", lane + "/scheduled",
		staging + "/map?since=production", staging + "/map?deployment=1", staging + "/map?since=1", staging +
			"/map.svg?since=production",
		staging + "/preview?deployment=1", staging + "/effects?deployment=1", staging + "/ledger", staging + "/gate",
		production, production + "/ledger", production + "/map", production + "/drift", production + "/gate", production +
			"/preview", production + "/probe",
		"/metrics", "/api/v1/audit", "/api/v1/people",
	} {
		code, text := ask(path)
		text = strings.NewReplacer(w.Server, "", path, "").Replace(text)
		assert.NotContains(t, text, "secret_of_production", path)
		if code == http.StatusOK && path != staging+"/gate" { // a gate tells what it asks of the one before
			assert.NotContains(t, text, "production", path)
		}
		asked[path] = true
	}
	tried := 0
	for path, parameters := range queries(t) { // and whatever parameter the document has
		filled := strings.NewReplacer("{lane}", "harbour", "{environment}", "staging", "{step}", "2", "{id}", "3",
			"{release}", "2026.11").
			Replace(path)
		for _, parameter := range parameters {
			for _, value := range []string{"production", "1", "harbour/production"} {
				with := filled + "?" + parameter + "=" + url.QueryEscape(value)
				if strings.HasSuffix(path, "/comparison") && parameter != "from" {
					with += "&from=staging"
				}
				_, text := ask(with)
				assert.NotContains(t, text, "secret_of_production", with)
				tried++
			}
		}
	}
	assert.Greater(t, tried, 60)
	for there, absent := range map[string]string{
		"/api/v1/deployments/1":                           "/api/v1/deployments/99",
		"/api/v1/deployments/1/events":                    "/api/v1/deployments/99/events",
		lane + "/comparison?from=staging&with=production": lane + "/comparison?from=staging&with=moon",
		staging + "/map?since=production":                 staging + "/map?since=moon",
		production + "/ledger":                            "/api/v1/lanes/harbour/environments/moon/ledger",
		lane + "/releases/2026.11?environment=production": lane + "/releases/2026.11?environment=moon",
	} {
		code, text := ask(there)
		same, like := ask(absent)
		assert.Equal(t, same, code, there)
		names := strings.NewReplacer(
			"production", "X", "moon", "X", "deployment 99", "deployment X", "deployment 1", "deployment X",
		)
		assert.Equal(t, names.Replace(like), names.Replace(text), there)
	}
	reporter := must(w.MakeToken(t.Context(), "nightly-backup", []string{"reporter@harbour"}, time.Hour)).Text
	token = reporter
	for path := range asked {
		code, _ := ask(path)
		assert.Contains(
			t,
			[]int{http.StatusForbidden, http.StatusNotFound},
			code,
			"a reporter looks at nothing: %s",
			path,
		)
	}
	token = must(w.MakeToken(t.Context(), "prometheus", []string{"reader"}, time.Hour)).Text
	code, _ := ask("/metrics")
	assert.Equal(t, http.StatusOK, code)
}
