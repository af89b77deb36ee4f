package tests

import (
	"encoding/json"
	"io"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/internal/pgtest"
)

// TestTheArrowsPointOneWay reads the imports: the rules know no driver, no grammar
// of one server and no engine, and what stands above them knows an engine by its
// interface only.
func TestTheArrowsPointOneWay(t *testing.T) {
	list := exec.CommandContext(
		t.Context(), "go", "list", "-json=ImportPath,Imports", "./core/...", "./work/...", "./service/...",
		"./records/...", "./client/...",
	)
	list.Dir = pgtest.Root()
	packages, err := list.Output()
	require.NoError(t, err)
	begins := func(path string, with ...string) bool {
		return slices.ContainsFunc(with, func(prefix string) bool { return strings.HasPrefix(path, prefix) })
	}
	seen := 0
	for decoder := json.NewDecoder(strings.NewReader(string(packages))); ; seen++ {
		var p struct {
			ImportPath string
			Imports    []string
		}
		err := decoder.Decode(&p)
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		knows := func(what ...string) []string {
			return slices.DeleteFunc(slices.Clone(p.Imports), func(path string) bool { return !begins(path, what...) })
		}
		assert.Empty(t, knows("vorrang/target"), "%s knows an engine", p.ImportPath)
		grammars := knows(
			"github.com/pganalyze", "github.com/jackc", "github.com/go-sql-driver", "github.com/mattn",
			"github.com/pingcap", "modernc.org",
		)
		if p.ImportPath != "vorrang/records" { // which stand on PostgreSQL themselves
			assert.Empty(t, grammars, "%s knows one server", p.ImportPath)
		}
		if begins(p.ImportPath, "vorrang/work") {
			assert.NotContains(t, p.Imports, "vorrang/service", "%s knows the edge", p.ImportPath)
		}
		if begins(p.ImportPath, "vorrang/core") {
			assert.Empty(
				t,
				knows(
					"vorrang/work", "vorrang/service", "vorrang/records", "vorrang/client", "vorrang/cmd", "net/http",
					"flag", "github.com/gofiber",
				),
				"%s knows who uses it", p.ImportPath,
			)
		}
	}
	assert.Greater(t, seen, 15, "packages were read")
}
