package service_test

import (
	"flag"
	"os"
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
