package tests

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/internal/pgtest"
)

var (
	link    = regexp.MustCompile(`\]\(([^)\s]+)\)`)
	heading = regexp.MustCompile(`(?m)^#+ (.*)$`)
	source  = regexp.MustCompile(
		"`((?:cmd|core|client|demo|internal|records|scripts|service|target|tests|work)/[\\w/.-]+\\.\\w+)`",
	)
	noWord = regexp.MustCompile(`[^\w\- ]`)
)

// TestEveryTestThatTheDocsNameIsThere: a word that a page says is held by a test is held by one.
func TestEveryTestThatTheDocsNameIsThere(t *testing.T) {
	named := regexp.MustCompile("`((?:Test|Fuzz)[A-Z]\\w+)`")
	begins := regexp.MustCompile(`(?m)^func ((?:Test|Fuzz)[A-Z]\w+)\(`)
	there := map[string]bool{}
	require.NoError(t, filepath.WalkDir(pgtest.Root(), func(path string, d os.DirEntry, err error) error {
		if err == nil && d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			return filepath.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, found := range begins.FindAllStringSubmatch(string(text), -1) {
			there[found[1]] = true
		}
		return err
	}))
	pages, err := filepath.Glob(filepath.Join(pgtest.Root(), "docs", "*.md"))
	require.NoError(t, err)
	checked := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, found := range named.FindAllStringSubmatch(string(text), -1) {
			checked++
			assert.True(t, there[found[1]], "%s names %s, which is not there", filepath.Base(page), found[1])
		}
	}
	assert.Greater(t, checked, 60)
}

// TestEveryLinkOfTheDocsLeadsSomewhere follows links to files and headings, and looks for
// the source files that are named.
func TestEveryLinkOfTheDocsLeadsSomewhere(t *testing.T) {
	var pages []string
	for _, pattern := range []string{"*.md", "docs/*.md", "docs/decisions/*.md"} {
		found, err := filepath.Glob(filepath.Join(pgtest.Root(), pattern))
		require.NoError(t, err)
		pages = append(pages, found...)
	}
	require.Greater(t, len(pages), 40)
	followed := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, found := range link.FindAllStringSubmatch(string(text), -1) {
			file, anchor, _ := strings.Cut(found[1], "#")
			if strings.Contains(file, "://") {
				continue
			}
			to := page
			if file != "" {
				to = filepath.Join(filepath.Dir(page), file)
			}
			followed++
			there, err := os.Stat(to)
			if !assert.NoError(t, err, "%s: %s", page, found[1]) || anchor == "" || there.IsDir() {
				continue
			}
			target, err := os.ReadFile(to)
			require.NoError(t, err)
			var anchors []string
			for _, h := range heading.FindAllStringSubmatch(string(target), -1) {
				anchors = append(
					anchors,
					strings.ReplaceAll(noWord.ReplaceAllString(strings.ToLower(strings.TrimSpace(h[1])), ""), " ", "-"),
				)
			}
			assert.True(t, slices.Contains(anchors, anchor), "%s: %s has no heading %s", page, to, anchor)
		}
		for _, named := range source.FindAllStringSubmatch(string(text), -1) {
			if !strings.Contains(page, "decisions") { // which speak of their time
				assert.FileExists(t, filepath.Join(pgtest.Root(), named[1]), page)
			}
		}
	}
	assert.Greater(t, followed, 50)
}
