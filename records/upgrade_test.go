package records

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/step"
	"vorrang/internal/pgtest"
	"vorrang/target/postgres"
)

// TestWhatAnOlderServiceUsesStaysUntilItIsGone: a newer one begins beside it.
func TestWhatAnOlderServiceUsesStaysUntilItIsGone(t *testing.T) {
	url := pgtest.Database(t)
	older, err := Open(t.Context(), postgres.Engine{}, url, Settings{Wait: 5 * time.Second, Version: "1"})
	require.NoError(t, err)
	all, err := ownSteps()
	require.NoError(t, err)
	for _, one := range [][2]string{
		{"9001-add.sql", "ALTER TABLE records.lane ADD COLUMN colour text;"},
		{"9002-take.sql", "/*---\nphase: contract\n---*/\nALTER TABLE records.lane DROP COLUMN colour;"},
		{"9003-more.sql", "ALTER TABLE records.lane ADD COLUMN shade text;"},
	} {
		file, problems := step.ReadFile(one[0], []byte(one[1]))
		require.Empty(t, problems)
		more, err := step.Assemble([]step.File{file})
		require.NoError(t, err)
		all = append(all, more...)
	}
	at := place{postgres.Engine{}, url, 5 * time.Second, slog.New(slog.DiscardHandler)}
	columns := func() string {
		session, err := postgres.Engine{}.Open(t.Context(), url, "test")
		require.NoError(t, err)
		defer session.Close()
		require.NoError(t, lockWithin(t.Context(), session, 5*time.Second))
		require.NoError(t, at.bringUp(context.WithoutCancel(t.Context()), session, all))
		return pgtest.Query(t, url, `SELECT coalesce(string_agg(column_name, ' '), '') FROM information_schema.columns
			WHERE table_schema = 'records' AND table_name = 'lane' AND column_name IN ('colour', 'shade')`)
	}
	assert.Equal(t, "colour", columns(), "it may still use it")
	assert.Equal(t, "colour", columns())
	older.Close()
	require.Eventually(t, func() bool { return columns() == "shade" }, 10*time.Second, 10*time.Millisecond)
}
