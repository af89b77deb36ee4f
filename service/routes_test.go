package service

import (
	"encoding/json"
	"io"
	"log/slog"
	"sort"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every route of the API is in the document, and nothing else is.
func TestTheDocumentHoldsEveryRoute(t *testing.T) {
	s, err := New(
		Config{Token: "0123456789abcdef", Console: fstest.MapFS{}, Log: slog.New(slog.NewTextHandler(io.Discard, nil))},
	)
	require.NoError(t, err)
	var routed []string
	for _, route := range s.app.GetRoutes(true) {
		if strings.HasPrefix(route.Path, "/api/v1/") && route.Method != "HEAD" {
			routed = append(routed, route.Method+" "+braced(route.Path))
		}
	}
	var document struct{ Paths map[string]map[string]any }
	text, err := Document("test")
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &document))
	var described []string
	for path, methods := range document.Paths {
		for method := range methods {
			described = append(described, strings.ToUpper(method)+" "+path)
		}
	}
	sort.Strings(routed)
	sort.Strings(described)
	assert.Equal(t, described, routed)
}

func braced(path string) string {
	parts := strings.Split(path, "/")
	for i, part := range parts {
		if name, is := strings.CutPrefix(part, ":"); is {
			parts[i] = "{" + name + "}"
		}
	}
	return strings.Join(parts, "/")
}

func TestAShortTokenIsRefused(t *testing.T) {
	_, err := New(Config{Token: "short"})
	assert.ErrorContains(t, err, "VORRANG_ADMIN_TOKEN")
}
