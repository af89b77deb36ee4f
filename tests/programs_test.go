package tests

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestProgramsLeaveNothingWhereOthersMayWrite: a library of ours kept what it had compiled, and ran later, in a folder
// with a name that everybody knows, which another user could have made before.
func TestProgramsLeaveNothingWhereOthersMayWrite(t *testing.T) {
	for program, args := range map[string][]string{"vorrangd": {"-version"}, "vorrang": {"help"}} {
		folder := t.TempDir()
		command := exec.Command(filepath.Join(built(t), program), args...)
		command.Env = []string{"TMPDIR=" + folder}
		output, err := command.CombinedOutput()
		require.NoError(t, err, string(output))
		left, err := os.ReadDir(folder)
		require.NoError(t, err)
		assert.Empty(t, left, program)
	}
}
