package tests

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/internal/pgtest"
)

// TestThePackageIsInstalledAndRemoved: in a root of its own, by dpkg itself. It has no
// scripts, so that nothing of it runs there.
func TestThePackageIsInstalledAndRemoved(t *testing.T) {
	make := exec.Command(filepath.Join(pgtest.Root(), "scripts", "deb"), t.TempDir())
	make.Env = append(os.Environ(), "VORRANG_BIN="+built(t))
	made, err := make.CombinedOutput()
	require.NoError(t, err, string(made))
	root := t.TempDir()
	for _, folder := range []string{"info", "updates", "triggers"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/dpkg", folder), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o644))
	dpkg := func(args ...string) {
		command := append([]string{"dpkg", "--root=" + root, "--log=" + filepath.Join(root, "dpkg.log"), "--force-depends"},
			args...)
		if os.Getuid() != 0 {
			command = append([]string{"sudo", "-n"}, command...)
		}
		output, err := exec.Command(command[0], command[1:]...).CombinedOutput()
		require.NoError(t, err, string(output))
	}
	there := func(name string) bool {
		_, err := os.Stat(filepath.Join(root, name))
		return err == nil
	}
	dpkg("--install", strings.TrimSpace(string(made)))
	version, err := exec.Command(filepath.Join(root, "usr/bin/vorrangd"), "-version").Output()
	require.NoError(t, err)
	assert.Contains(t, string(version), "vorrangd ")
	checked := exec.Command(filepath.Join(root, "usr/bin/vorrangd"), "-check")
	checked.Env = []string{"VORRANG_RECORDS_URL=postgres://nobody@127.0.0.1:1/none"}
	said, err := checked.CombinedOutput()
	require.Error(t, err, "there are no records")
	assert.Contains(t, string(said), "ok    layout of maps: "+filepath.Join(root, "usr/lib/vorrang/vorrang-layout"))
	const settings, unit = "etc/vorrang/vorrangd.env", "usr/lib/systemd/system/vorrangd.service"
	assert.True(t, there(unit))
	info, err := os.Stat(filepath.Join(root, settings))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "it holds passwords")

	dpkg("--remove", "vorrang")
	assert.False(t, there("usr/bin/vorrangd"))
	assert.False(t, there(unit))
	assert.True(t, there(settings), "what somebody wrote stays")
	dpkg("--purge", "vorrang")
	assert.False(t, there(settings))
}
