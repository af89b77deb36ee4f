package service_test

import (
	"encoding/json"
	"flag"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/service"
)

var update = flag.Bool("update", false, "write the golden files again")

// theDocument takes seconds to write under the race detector.
var theDocument = sync.OnceValues(func() ([]byte, error) { return service.Document("1") })

// The document in docs is what the console's types are made of.
func TestTheDocumentInDocsIsWhatTheServiceServes(t *testing.T) {
	document, err := theDocument()
	require.NoError(t, err)
	const golden = "../docs/openapi.json"
	if *update {
		require.NoError(t, os.WriteFile(golden, append(document, '\n'), 0o644))
	}
	kept, err := os.ReadFile(golden)
	require.NoError(t, err)
	assert.Equal(
		t, string(kept),
		string(document)+"\n",
		"run: go test ./service -run Document -update, then npm run types in console/",
	)
}

// whole are the answers with a list that is given as a whole: it does not grow from day to day.
var whole = map[string]bool{
	"/engines": true, "/engines/{engine}/findings": true, "/services": true, "/session": true, "/fleet-deployments/{fleet}": true,
	"/deployments/{id}": true, "/deployments/{id}/footprints": true, "/lanes/{lane}": true, "/lanes/{lane}/comparison": true,
	"/lanes/{lane}/verification": true, "/lanes/{lane}/releases/{release}": true, "ENV": true, "ENV/adoption": true, "ENV/drift": true,
	"ENV/gate": true, "ENV/map": true, "ENV/probe": true, "ENV/rehearsals/{rehearsal}": true, "ENV/rehearsals/{rehearsal}/events": true,
	"ENV/steps/{step}/evidence": true,
}

// TestEveryListIsReadPageByPage: what grows with time is asked for in pages, and searched at the service.
func TestEveryListIsReadPageByPage(t *testing.T) {
	text, err := theDocument()
	require.NoError(t, err)
	type schema struct {
		Ref        string `json:"$ref"`
		Type       any
		Properties map[string]schema
	}
	var document struct {
		Paths map[string]map[string]struct {
			Parameters []struct{ Name, In string }
			Responses  map[string]struct {
				Content map[string]struct{ Schema schema }
			}
		}
		Components struct{ Schemas map[string]schema }
	}
	require.NoError(t, json.Unmarshal(text, &document))
	lists := 0
	for path, methods := range document.Paths {
		short := strings.Replace(strings.TrimPrefix(path, "/api/v1"), "/lanes/{lane}/environments/{environment}", "ENV", 1)
		answer := methods["get"].Responses["200"].Content["application/json"].Schema
		answer = document.Components.Schemas[answer.Ref[strings.LastIndex(answer.Ref, "/")+1:]]
		var arrays []string
		for _, name := range slices.Sorted(maps.Keys(answer.Properties)) {
			if kind, _ := json.Marshal(answer.Properties[name].Type); strings.Contains(string(kind), `"array"`) {
				arrays = append(arrays, name)
			}
		}
		if len(arrays) == 0 || whole[short] {
			continue
		}
		asked := map[string]bool{}
		for _, p := range methods["get"].Parameters {
			if p.In == "query" {
				asked[p.Name] = true
			}
		}
		lists++
		assert.True(t, asked["limit"], "%s gives all of its %s", short, arrays)
		delete(asked, "limit")
		assert.True(t, asked["before"] || asked["after"] || short == "ENV/preview" || strings.HasSuffix(short, "/steps/{step}"),
			"of %s only the first page can be had", short)
		delete(asked, "before")
		delete(asked, "after")
		assert.True(t, len(asked) > 0 || strings.HasSuffix(short, "/events") || strings.HasSuffix(short, "/steps/{step}"),
			"%s cannot be searched", short)
	}
	assert.Greater(t, lists, 15)
}
