package records

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/step"
)

// TestAStepOfTheRecordsNeverChanges: one that came into somebody's records cannot run
// there again. What it did wrong a further step puts right. -update adds the files that
// are new to testdata/steps.sums; a line that is there stays.
func TestAStepOfTheRecordsNeverChanges(t *testing.T) {
	const kept = "testdata/steps.sums"
	sums, err := os.ReadFile(kept)
	require.NoError(t, err)
	files, err := filepath.Glob("steps/*.sql")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		name := filepath.Base(file)
		line := fmt.Sprintf("%s  %s\n", step.Sum(text), name)
		if *update && !bytes.Contains(sums, []byte("  "+name+"\n")) {
			sums = append(sums, line...)
		}
		assert.Contains(t, string(sums), line, "%s is not as it was, or is new: see -update", name)
	}
	assert.Equal(t, len(files), strings.Count(string(sums), "\n"), "no step goes away")
	if *update {
		require.NoError(t, os.WriteFile(kept, sums, 0o644))
	}
}
