package work

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/access"
)

func TestAuditFilesAreAddedTo(t *testing.T) {
	folder := t.TempDir()
	files := AuditFiles(folder)
	act := func(id int64, at string) access.AuditEntry {
		when, err := time.Parse(time.RFC3339, at)
		require.NoError(t, err)
		return access.AuditEntry{ID: id, At: when, Actor: "k.brandt", Operation: "promote"}
	}
	require.NoError(t, files.Check())
	require.NoError(t, files.Keep([]access.AuditEntry{act(1, "2026-01-31T23:30:00-01:00"), act(2, "2026-02-01T00:30:00Z"),
		act(3, "2026-01-31T23:30:00Z")}))
	january, february := filepath.Join(folder, "audit-2026-01.jsonl"), filepath.Join(folder, "audit-2026-02.jsonl")
	assert.Regexp(t, `^\{"id":3,[^\n]*\}\n$`, text(t, january))
	assert.Regexp(t, `^\{"id":1,[^\n]*\}\n\{"id":2,[^\n]*\}\n$`, text(t, february), "the month is that of UTC")

	half, err := os.OpenFile(january, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = half.WriteString(`{"id":4,"at`)
	require.NoError(t, err)
	require.NoError(t, half.Close())
	require.NoError(t, files.Keep([]access.AuditEntry{act(4, "2026-01-31T23:45:00Z")}))
	assert.Regexp(t, `\n\{"id":4,"at\n\{"id":4,[^\n]*\}\n$`, text(t, january), "a line begins where one was broken off")
	info, err := os.Stat(january)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())

	away := AuditFiles(filepath.Join(folder, "away"))
	assert.ErrorContains(t, away.Check(), "no such file")
	assert.ErrorContains(t, away.Keep([]access.AuditEntry{act(5, "2026-01-01T00:00:00Z")}), "keep the audit before it goes")
	assert.NoError(t, AuditFiles("").Keep([]access.AuditEntry{act(5, "2026-01-01T00:00:00Z")}), "nowhere is said, too")
	entries, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Len(t, entries, 2, "a check leaves nothing")
}

func text(t *testing.T, name string) string {
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	return string(text)
}
