package tests

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/internal/pgtest"
)

// checks runs vorrangd -check with an environment.
func checks(t *testing.T, env []string, args ...string) (output string, failed bool) {
	command := exec.Command(filepath.Join(built(t), "vorrangd"), append([]string{"-check"}, args...)...)
	command.Env = env
	text, err := command.CombinedOutput()
	return string(text), err != nil
}

// TestWhatAServiceNeedsIsCheckedBeforeItStarts: and beside one that runs, without
// changing anything.
func TestWhatAServiceNeedsIsCheckedBeforeItStarts(t *testing.T) {
	target, records := pgtest.Database(t), pgtest.Database(t)
	fresh := []string{"VORRANG_ADMIN_TOKEN=" + token, "VORRANG_RECORDS_URL=" + records}
	output, failed := checks(t, fresh)
	assert.False(t, failed, output)
	assert.Regexp(t, `ok    records: PostgreSQL [^,]+, empty: the first start makes the tables`, output)
	assert.Contains(t, output, "ok    layout of maps: "+filepath.Join(built(t), "vorrang-layout"))
	assert.Equal(t, "0", pgtest.Query(t, records, "SELECT count(*)::text FROM pg_namespace WHERE nspname IN "+
		"('records', 'vorrang')"), "it made none")

	p := startProcess(t, "TARGET="+target, "RECORDS="+records)
	_, err := p.Declare(t.Context(), "lane.yaml", []byte("lane: harbour\nenvironments:\n"+
		"  - {name: staging, target: env:TARGET, scratch: env:TARGET}\n  - {name: production, target: env:NOWHERE, "+
		"rehearse-on: \"file:/nowhere\"}\n"))
	require.NoError(t, err)
	before := pgtest.Query(t, records, "SELECT string_agg(seq || hash, ' ' ORDER BY seq) FROM vorrang.ledger")
	output, failed = checks(t, p.env)
	assert.True(t, failed)
	assert.Contains(t, output, "up to date; 1 vorrangd works on them now")
	assert.Regexp(t, `ok    harbour/staging, target env:TARGET: [^,]+, database \S+, user \S+`, output)
	assert.Contains(t, output, "ok    harbour/staging, scratch env:TARGET: ")
	assert.Contains(t, output, "FAIL  harbour/production, target env:NOWHERE: the variable NOWHERE is not set")
	assert.Contains(t, output, "FAIL  harbour/production, rehearse-on file:/nowhere: ")
	assert.Contains(t, output, "2 things are not right; nothing was changed")
	assert.NotContains(t, output, "vorrang-superuser", "no credential is shown")
	assert.Equal(t, before, pgtest.Query(t, records, "SELECT string_agg(seq || hash, ' ' ORDER BY seq) FROM "+
		"vorrang.ledger"))
	assert.Equal(t, "false", pgtest.Query(t, target, "SELECT to_regclass('vorrang.ledger') IS NOT NULL"),
		"the target is only read")

	output, failed = checks(t, []string{"VORRANG_ADMIN_TOKEN=short", "VORRANG_RECORDS_URL=postgres://127.0.0.1:1/none"})
	assert.True(t, failed)
	assert.Contains(t, output, "FAIL  administrator's token: it is shorter than 16 characters")
	assert.Contains(t, output, "FAIL  records: ")
	assert.Regexp(t, `ok    folder for uploads: \S+: \d+ MiB free\n`, output)

	full := smallDisk(t, t.TempDir())
	output, _ = checks(t, []string{"VORRANG_RECORDS_URL=postgres://127.0.0.1:1/none", "TMPDIR=" + full})
	assert.Regexp(t, `FAIL  folder for uploads: \S+: 1\d MiB free, and an upload may have 256 MiB\n`, output)
}

// smallDisk is a file system of 16 MiB, in memory.
func smallDisk(t *testing.T, in string) string {
	disk := filepath.Join(in, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	if output, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=16m", "tmpfs", disk).CombinedOutput(); err != nil {
		t.Skipf("a file system can only be mounted as root: %s", output)
	}
	t.Cleanup(func() { _ = exec.Command("umount", "--lazy", disk).Run() })
	return disk
}

// TestAServiceWithoutAFolderForUploadsSaysSo: as in a container whose files are read only.
func TestAServiceWithoutAFolderForUploadsSaysSo(t *testing.T) {
	p := startProcess(t, "TARGET="+pgtest.Database(t), "TMPDIR=/nowhere")
	output, failed := checks(t, p.env)
	assert.True(t, failed)
	assert.Contains(t, output, "FAIL  folder for uploads: /nowhere: no such file or directory")
	_, err := p.Declare(t.Context(), "lane.yaml",
		[]byte("lane: harbour\nenvironments: [{name: staging, target: env:TARGET}]\n"))
	require.NoError(t, err)
	_, err = p.Submit(t.Context(), "harbour", fstest.MapFS{"1-berth.sql": {Data: []byte("CREATE TABLE public.berth (id int);")}})
	var refused *client.Error
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, http.StatusInsufficientStorage, refused.Status)
	assert.Contains(t, refused.Detail, "/nowhere")
}
