package service_test

import (
	"bytes"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/internal/servicetest"
)

// operations reads every path and method from the OpenAPI document.
func operations(t *testing.T) map[string][]string {
	document, err := theDocument()
	require.NoError(t, err)
	var parsed struct {
		OpenAPI string                                `json:"openapi"`
		Paths   map[string]map[string]json.RawMessage `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(document, &parsed))
	assert.Equal(t, "3.1.0", parsed.OpenAPI)
	list := map[string][]string{}
	for path, methods := range parsed.Paths {
		for method := range methods {
			list[path] = append(list[path], strings.ToUpper(method))
		}
	}
	return list
}

func TestNothingButHealthAnswersWithoutTheToken(t *testing.T) {
	w := servicetest.Start(t)
	ask := func(method, path, token string) int {
		req, err := http.NewRequestWithContext(t.Context(), method, w.Server+path, nil)
		require.NoError(t, err)
		if token != "" {
			req.Header.Set("Authorization", "Bearer "+token)
		}
		answer, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		_ = answer.Body.Close()
		return answer.StatusCode
	}
	for _, path := range []string{"/healthz", "/readyz"} {
		assert.Equal(t, http.StatusOK, ask(http.MethodGet, path, ""), path)
	}
	asked := 0
	for path, methods := range operations(t) {
		for _, method := range methods {
			if who[method+" "+path] == "open" {
				continue // signing in
			}
			filled := strings.NewReplacer("{lane}", "harbour", "{environment}", "staging", "{step}", "1", "{id}", "1").
				Replace(path)
			assert.Equal(t, http.StatusUnauthorized, ask(method, filled, ""), "%s %s", method, path)
			assert.Equal(
				t, http.StatusUnauthorized,
				ask(method, filled, "another-token-of-24-letters"),
				"%s %s", method, path,
			)
			asked++
		}
	}
	assert.Greater(t, asked, 15)
	for _, path := range []string{"/metrics", "/api/openapi.json"} {
		assert.Equal(t, http.StatusUnauthorized, ask(http.MethodGet, path, ""), path)
		assert.Equal(t, http.StatusOK, ask(http.MethodGet, path, servicetest.Token), path)
	}
}

func TestASessionIsACookieThatOnlyThePageItselfCanUse(t *testing.T) {
	w := servicetest.Start(t)
	send := func(method, path, body string, cookie *http.Cookie, headers ...string) *http.Response {
		req, err := http.NewRequestWithContext(t.Context(), method, w.Server+path, bytes.NewReader([]byte(body)))
		require.NoError(t, err)
		if cookie != nil {
			req.AddCookie(cookie)
		}
		req.Header.Set("Content-Type", "application/json")
		for i := 0; i+1 < len(headers); i += 2 {
			req.Header.Set(headers[i], headers[i+1])
		}
		answer, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		t.Cleanup(func() { _ = answer.Body.Close() })
		return answer
	}
	assert.Equal(
		t, http.StatusUnauthorized,
		send("POST", "/api/v1/session", `{"name":"eve","token":"guessed"}`, nil).StatusCode,
	)
	signedIn := send("POST", "/api/v1/session", `{"name":"Ship  Pilot","token":"`+servicetest.Token+`"}`, nil)
	require.Equal(t, http.StatusOK, signedIn.StatusCode)
	cookie := signedIn.Cookies()[0]
	assert.True(t, cookie.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	assert.NotContains(t, cookie.Value, servicetest.Token)

	var session struct{ Name string }
	require.NoError(t, json.NewDecoder(send("GET", "/api/v1/session", "", cookie).Body).Decode(&session))
	assert.Equal(t, "Ship Pilot", session.Name)
	const promotions = "/api/v1/lanes/moon/environments/a/promotions"
	assert.Equal(
		t, http.StatusNotFound,
		send("POST", promotions, "{}", cookie, "Origin", w.Server).StatusCode,
		"the page itself comes through",
	)
	assert.Equal(
		t, http.StatusForbidden,
		send("POST", promotions, "{}", cookie, "Origin", "http://evil.example").StatusCode,
	)
	assert.Equal(
		t, http.StatusForbidden,
		send("POST", promotions, "{}", cookie, "Sec-Fetch-Site", "cross-site").StatusCode,
	)

	forged := *cookie
	forged.Value = map[bool]string{true: "B", false: "A"}[cookie.Value[0] == 'A'] + cookie.Value[1:]
	assert.Equal(t, http.StatusUnauthorized, send("GET", "/api/v1/session", "", &forged).StatusCode)
	out := send("DELETE", "/api/v1/session", "", cookie)
	assert.Equal(t, http.StatusOK, out.StatusCode)
	assert.Negative(t, out.Cookies()[0].MaxAge)
	assert.Equal(
		t, http.StatusUnauthorized,
		send("GET", "/api/v1/session", "", cookie).StatusCode,
		"a copy of the cookie opens nothing any more",
	)
}
