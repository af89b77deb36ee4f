package records_test

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/records"
)

// TestAFileThatCannotBeUsedIsNoLossOfTheRecords: the system's errors of files and of networks are of one kind in Go.
func TestAFileThatCannotBeUsedIsNoLossOfTheRecords(t *testing.T) {
	file := filepath.Join(t.TempDir(), "program")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	cannot := exec.Command(file).Run()
	require.Error(t, cannot)
	assert.False(t, records.Away(cannot), "%v", cannot)
	_, refused := net.Dial("tcp", "127.0.0.1:1")
	require.Error(t, refused)
	assert.True(t, records.Away(refused), "%v", refused)
}
