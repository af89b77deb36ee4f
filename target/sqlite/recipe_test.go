package sqlite_test

import (
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/target/enginetest"
)

// TestTheRecipeFindsWhatDoesNotFit runs the script of docs/engines.md.
func TestTheRecipeFindsWhatDoesNotFit(t *testing.T) {
	url := enginetest.WithHistory(t, harness())
	check := func() string {
		shell := exec.CommandContext(t.Context(), "sh", "-c", enginetest.Documented(t, "sh"))
		shell.Env = append(os.Environ(), "TARGET="+pathOf(url))
		output, err := shell.CombinedOutput()
		require.NoError(t, err, string(output))
		return string(output)
	}
	assert.Empty(t, check(), "an intact chain")
	require.NoError(
		t,
		run(t, url, "DROP TRIGGER vorrang_ledger_no_update; UPDATE vorrang_ledger SET actor = 'nobody' WHERE seq = 2"),
	)
	assert.Equal(t, "entry 2 does not fit\n", check())
}
